"""Measures: their text, and one class for each calculation."""
