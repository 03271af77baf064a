"""The sluice gate."""
