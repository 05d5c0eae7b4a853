"""`recap`: one row per period and group, with what may stand beside it."""
