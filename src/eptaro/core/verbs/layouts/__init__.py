"""Layouts: groups side by side, and years across."""
