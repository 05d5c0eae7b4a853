"""Transactions folded to cells."""
