"""Numbers for values and for combinations of them."""
