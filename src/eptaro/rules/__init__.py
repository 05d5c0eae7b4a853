"""How dates and files are written."""
