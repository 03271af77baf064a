"""Small projects: a model, the board it is about, and what to ask of them."""
