"""`recap`: one row per period and group, with what may be beside it."""
