"""One page for the team: what a model comes to, what captures say of it, and a timeline to look around in."""
