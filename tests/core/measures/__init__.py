"""Tests of `core/measures`."""
