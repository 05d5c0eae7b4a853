"""Workbooks as sources."""
