"""The hop kiln."""
