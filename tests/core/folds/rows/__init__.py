"""Tests of `core/folds/rows`."""
