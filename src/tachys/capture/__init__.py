"""Captures from the board: reading them into columns, edges and levels."""
