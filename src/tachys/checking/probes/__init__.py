"""From signals to what the model speaks of: lines, buses, shared lines, and what each is bound to."""
