"""Marks that the firmware makes itself: the header for it, and what its stream or its memory tells."""
