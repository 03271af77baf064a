"""The rain gauge."""
