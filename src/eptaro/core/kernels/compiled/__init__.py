"""Loops in C, built where a compiler is at hand; `kernels/chosen.py` says which loops run."""
