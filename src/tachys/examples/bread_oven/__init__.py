"""The bread oven."""
