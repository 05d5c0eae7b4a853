"""Tests of `core/tables`."""
