"""The invented island ferry line and its data."""
