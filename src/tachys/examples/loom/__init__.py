"""The loom."""
