"""The brooder."""
