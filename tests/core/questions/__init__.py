"""Tests of `core/questions`."""
