"""Columns, tables, how they are shown, and the answer behind each."""
