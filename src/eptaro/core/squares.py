"""`Squares`: sums of squares, from which variances come.

Whole numbers and decimals are kept exactly: x = a * 2**24 + b, so the sum of x**2 is
known from the sums of a*a, a*b and b*b in 64 bits. So is the nearest whole number w of a
float, counted from a centre near the mean; what is left of it, r, adds (2*w + r) * r. So the
spread of small values stays right beside values a billion times as large.
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
    """Sums of squares per cell: three exact parts, and for floats, which are counted from
    `centre`, a fourth of what is left; floats too far from it have one part alone.
    """

    parts: tuple[Array, ...]
    kind: Kind
    scale: int = 0
    centre: int = 0

    @staticmethod
    def far(values: Array, centre: int) -> bool:
        """Return whether some floats are too far from a centre for exact parts."""
        least = np.fmin.reduce(values, initial=np.inf)
        most = np.fmax.reduce(values, initial=-np.inf)
        return bool(centre - least >= _MOST or most - centre >= _MOST)

    @staticmethod
    def split(values: Array, kind: Kind, centre: int, *, far: bool = False) -> tuple[Array, ...]:
        """Return what each value adds to the parts."""
        if far:
            return ((values - centre) ** 2,)
        if kind == "float":
            nearest = np.rint(values)
            rest, away = values - nearest, nearest - centre
            whole = away.astype(np.int64)
            return (*_halves(whole), (2 * away + rest) * rest)
        if len(values) and max(abs(int(values.min())), abs(int(values.max()))) >= _MOST:
            raise MeasureError(f"values of {_MOST:,} units and more have no exact variance")
        return _halves(values)

    def spread(self, target: Ints, size: int) -> Squares:
        """Return the sums on other cells."""
        keep = target >= 0
        parts = tuple(np.zeros(size, part.dtype) for part in self.parts)
        for out, part in zip(parts, self.parts, strict=True):
            np.add.at(out, target[keep], part[keep])
        return Squares(parts, self.kind, self.scale, self.centre)

    def about(self, like: Squares, sums: Sum, counts: Sum) -> Squares:
        """Return the same squares as the other keeps them: of floats if it does, and about its
        centre; `sums` and `counts` are those of the own values.
        """
        if "float" not in (self.kind, like.kind):
            return self
        made = self if self.kind == "float" else self._plain()
        shift = made.centre - (like.centre if like.kind == "float" else 0)
        if not shift:
            return made
        if sums.rest is None:
            sums = sums.like(Sum(sums.whole[:0], np.zeros(0), "float"))
        assert sums.rest is not None
        away, n = sums.whole - counts.whole * made.centre, counts.whole
        if len(made.parts) == 1:
            moved = made.parts[0] + 2.0 * shift * (away + sums.rest) + n * float(shift) ** 2
            return Squares((moved,), "float", 0, made.centre - shift)
        exact = made.exact() + 2 * shift * away.astype(object) + shift**2 * n.astype(object)
        rest = made.parts[3] + 2 * shift * sums.rest
        return Squares((*_thirds(exact), rest), "float", 0, made.centre - shift)

    def plus(self, other: Squares) -> Squares:
        """Return the sums of both, which are kept about one centre."""
        one, two = self._like(other), other._like(self)
        if len(one.parts) != len(two.parts):
            one, two = one._plain(), two._plain()
        parts = tuple(a + b for a, b in zip(one.parts, two.parts, strict=True))
        return Squares(parts, one.kind, one.scale, one.centre)

    @classmethod
    def of_exact(cls, squares: Array, kind: Kind, scale: int) -> Squares:
        """Return sums of squares that are given as Python integers, in units of 100**-scale."""
        return cls(_thirds(squares), kind, scale)

    def exact(self) -> Array:
        """Return the sums of squares of the whole parts as Python integers."""
        high, middle, low = (part.astype(object) for part in self.parts[:3])
        return (high << (2 * _SHIFT)) + (middle << (_SHIFT + 1)) + low  # type: ignore[no-any-return]

    def _like(self, other: Squares) -> Squares:
        """Return the same sums with as many decimals as the other's."""
        if "float" in (self.kind, other.kind) or other.scale <= self.scale:
            return self
        exact = self.exact() * 100 ** (other.scale - self.scale)
        return Squares.of_exact(exact, other.kind, other.scale)

    def _plain(self) -> Squares:
        """Return the squares as floats of one part."""
        if len(self.parts) == 1:
            return self
        squares = self.exact().astype(np.float64) / 100.0**self.scale
        rest = self.parts[3] if self.kind == "float" else 0.0
        return Squares((squares + rest,), "float", 0, self.centre)

    def prefix(self) -> Squares:
        """Return running sums with a leading zero."""
        return Squares(tuple(map(running, self.parts)), self.kind, self.scale, self.centre)

    def variance(self, sums: Sum, counts: Ints, lo: Ints, hi: Ints) -> NDArray[np.float64]:
        """Return the variance (divided by n-1) of ranges; both tallies are prefix sums.

        (n * sum of squares - square of sum) / (n * (n-1)), the numerator exact for whole
        numbers and decimals and the whole part of floats. Ranges of fewer than two values give
        anything.
        """
        inside = [part[hi] - part[lo] for part in self.parts]
        whole = sums.whole[hi] - sums.whole[lo] - counts * self.centre
        rest = 0.0 if sums.rest is None else sums.rest[hi] - sums.rest[lo]
        n = np.maximum(counts, 2)
        if len(inside) == 1:
            about = whole + rest
            spread = np.maximum(inside[0] - about * about / n, 0.0)
            return np.asarray(spread / (n - 1), np.float64)
        squares = Squares(tuple(inside), self.kind).exact()
        total = whole.astype(object)
        exact = (counts.astype(object) * squares - total * total).astype(np.float64)
        if self.kind == "float":
            exact = np.maximum(exact + (n * inside[3] - (2 * whole + rest) * rest), 0.0)
        unit = 10.0**self.scale
        return np.asarray(exact / (n * (n - 1)) / unit / unit, np.float64)


def _halves(whole: Array) -> tuple[Array, Array, Array]:
    high, low = whole >> _SHIFT, whole & ((1 << _SHIFT) - 1)
    return high * high, high * low, low * low


def _thirds(exact: Array) -> tuple[Array, Array, Array]:
    """Return the parts of Python integers, low ones small enough to be added up by the million."""
    low = exact & ((1 << (_SHIFT + 1)) - 1)
    middle = (exact >> (_SHIFT + 1)) & ((1 << (_SHIFT - 1)) - 1)
    parts = (exact >> (2 * _SHIFT), middle, low)
    return tuple(part.astype(np.int64) for part in parts)  # type: ignore[return-value]
