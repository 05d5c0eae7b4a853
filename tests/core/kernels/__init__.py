"""Tests of `core/kernels`."""
