"""Proofs: every number recalculated from its transactions."""
