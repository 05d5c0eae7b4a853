"""Tests of `core/results`."""
