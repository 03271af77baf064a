"""The milk tank."""
