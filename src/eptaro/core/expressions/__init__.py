"""The language of conditions, derived columns, groups and measures."""
