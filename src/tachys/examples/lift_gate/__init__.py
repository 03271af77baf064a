"""The lift gate."""
