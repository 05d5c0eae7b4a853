"""The loops in NumPy: the twins of those in `compiled/`, and what they are held against."""
