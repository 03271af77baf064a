"""The mushroom house."""
