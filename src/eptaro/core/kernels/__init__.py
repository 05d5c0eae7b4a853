"""Loops over plain arrays."""
