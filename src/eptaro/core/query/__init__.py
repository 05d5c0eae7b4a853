"""Queries: what they ask, and the data that they look at."""
