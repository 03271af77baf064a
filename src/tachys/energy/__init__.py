"""Supply current and battery life."""
