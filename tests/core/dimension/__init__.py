"""Tests of `core/dimension`."""
