"""Tests of `core/expressions`."""
