"""Figures from models and captures."""
