"""Limits and usage: how much room is left, and for whom."""
