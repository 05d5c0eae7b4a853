"""Tests of `core/verbs`."""
