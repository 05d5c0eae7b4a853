"""Tests of `core/folds`."""
