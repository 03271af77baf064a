"""The cider press."""
