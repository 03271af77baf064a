"""Worst and best cases on paper: arrival curves, busy windows, load, needs."""
