"""Columns and results, and how their values are shown."""
