"""What a capture shows of a system, measured: runs and the events they served, own times, waits, load."""
