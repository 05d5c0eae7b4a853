"""Tests of `core/proof`."""
