"""`Squares`: sums of squares, from which variances come.

Whole numbers and decimals are kept exactly: x = a * 2**24 + b, so the sum of x**2 is
known from the sums of a*a, a*b and b*b in 64 bits. Floats are kept about a centre near
their mean, so that values far from zero keep their small differences.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Kind
from eptaro.core.days import Ints
from eptaro.core.errors import MeasureError
from eptaro.core.tallies import Array, Sum, running

_SHIFT = 24
_MOST = 2**44  # beyond, the sum of a*a might not fit


@dataclass(frozen=True, eq=False)
class Squares:
    """Sums of squares per cell: three exact parts, or one float part about `centre`."""

    parts: tuple[Array, ...]
    kind: Kind
    scale: int = 0
    centre: int = 0

    @staticmethod
    def split(values: Array, kind: Kind, centre: int) -> tuple[Array, ...]:
        """Return what each value adds to the parts."""
        if kind == "float":
            return ((values - centre) ** 2,)
        if len(values) and max(abs(int(values.min())), abs(int(values.max()))) >= _MOST:
            raise MeasureError(f"values of {_MOST:,} units and more have no exact variance")
        high, low = values >> _SHIFT, values & ((1 << _SHIFT) - 1)
        return high * high, high * low, low * low

    def spread(self, target: Ints, size: int) -> Squares:
        """Return the sums on other cells."""
        keep = target >= 0
        parts = tuple(np.zeros(size, part.dtype) for part in self.parts)
        for out, part in zip(parts, self.parts, strict=True):
            np.add.at(out, target[keep], part[keep])
        return Squares(parts, self.kind, self.scale, self.centre)

    def plus(self, other: Squares) -> Squares:
        """Return the sums of both; floats must be kept about one centre.

        Raises `MeasureError` for floats against whole numbers, or about other centres.
        """
        one, two = self._like(other), other._like(self)
        if (one.kind == "float") != (two.kind == "float") or one.centre != two.centre:
            raise MeasureError("std and var need values of one kind throughout")
        parts = tuple(a + b for a, b in zip(one.parts, two.parts, strict=True))
        return Squares(parts, one.kind, one.scale, one.centre)

    def _like(self, other: Squares) -> Squares:
        """Return the same sums with as many decimals as the other's."""
        if self.kind == "float" or other.kind == "float" or other.scale <= self.scale:
            return self
        high, middle, low = (part.astype(object) for part in self.parts)
        exact = (high << (2 * _SHIFT)) + (middle << (_SHIFT + 1)) + low
        exact = exact * 100 ** (other.scale - self.scale)
        high, low = exact >> (2 * _SHIFT), exact & ((1 << (2 * _SHIFT)) - 1)
        parts = (high.astype(np.int64), np.zeros(len(low), np.int64), low.astype(np.int64))
        return Squares(parts, other.kind, other.scale)

    def prefix(self) -> Squares:
        """Return running sums with a leading zero."""
        return Squares(tuple(map(running, self.parts)), self.kind, self.scale, self.centre)

    def variance(self, sums: Sum, counts: Ints, lo: Ints, hi: Ints) -> NDArray[np.float64]:
        """Return the variance (divided by n-1) of ranges; both tallies are prefix sums.

        (n * sum of squares - square of sum) / (n * (n-1)), the numerator exact for whole
        numbers and decimals. Ranges of fewer than two values give anything.
        """
        inside = [part[hi] - part[lo] for part in self.parts]
        whole = sums.whole[hi] - sums.whole[lo]
        n = np.maximum(counts, 2)
        if self.kind == "float":
            rest = 0.0 if sums.rest is None else sums.rest[hi] - sums.rest[lo]
            about = (whole - counts * self.centre) + rest
            spread = np.maximum(inside[0] - about * about / n, 0.0)
            return np.asarray(spread / (n - 1), np.float64)
        high, middle, low = (part.astype(object) for part in inside)
        squares = (high << (2 * _SHIFT)) + (middle << (_SHIFT + 1)) + low
        total = whole.astype(object)
        exact = counts.astype(object) * squares - total * total
        unit = 10.0**self.scale
        return np.asarray(exact.astype(np.float64) / (n * (n - 1)) / unit / unit, np.float64)
