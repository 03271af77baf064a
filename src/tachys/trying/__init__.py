"""Trying a change: models beside each other, figures moved over a range, room left, priorities."""
