"""The second way to every number, transaction by transaction."""
