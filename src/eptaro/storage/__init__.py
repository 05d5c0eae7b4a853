"""A book's file."""
