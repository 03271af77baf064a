"""The river gauge."""
