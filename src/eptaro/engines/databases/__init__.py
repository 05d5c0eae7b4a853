"""The fold inside a database."""
