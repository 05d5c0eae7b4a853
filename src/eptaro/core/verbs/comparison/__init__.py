"""Comparisons: their sides, their columns, and what splits changes."""
