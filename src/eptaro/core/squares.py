"""`Squares`: sums of squares, from which variances come.

Whole numbers and decimals are kept exactly: x = a * 2**24 + b, so the sum of x**2 is
known from the sums of a*a, a*b and b*b in 64 bits. So is the nearest whole number w of a
float, counted from a centre near the mean; what is left of it, r, adds (2*w + r) * r. So the
spread of small values stays right beside values a billion times as large. Values too large
for this have their squares kept as Python integers.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core import exact
from eptaro.core.column import Kind
from eptaro.core.days import Ints
from eptaro.core.tallies import Array, Sum, running

_SHIFT = 24
_MOST = 2**44  # beyond, the sum of a*a might not fit


@dataclass(frozen=True, eq=False)
class Squares:
    """Sums of squares per cell: `parts` are three exact ones, or one of Python integers; `rest`
    is what is left of floats, which are counted from `centre`.
    """

    parts: tuple[Array, ...]
    kind: Kind
    scale: int = 0
    centre: int = 0
    rest: NDArray[np.float64] | None = None

    @staticmethod
    def far(values: Array, centre: int) -> bool:
        """Return whether some values are too far from a centre for three parts."""
        if values.dtype.kind != "f":
            return exact.most(values) >= _MOST
        least = np.fmin.reduce(values, initial=np.inf)
        largest = np.fmax.reduce(values, initial=-np.inf)
        return bool(centre - least >= _MOST or largest - centre >= _MOST)

    @staticmethod
    def split(
        values: Array, kind: Kind, centre: int, *, far: bool = False
    ) -> tuple[tuple[Array, ...], NDArray[np.float64] | None]:
        """Return what each value adds to the parts, and to the rest."""
        if kind != "float":
            units = exact.wide(values) if far else values
            return (units * units,) if far else _halves(units), None
        nearest = np.rint(values)
        rest, away = values - nearest, nearest - centre
        whole = exact.wide(nearest) - centre if far else away.astype(np.int64)
        left = (2 * np.where(rest == 0, 0.0, away) + rest) * rest
        return (whole * whole,) if far else _halves(whole), left

    @classmethod
    def of(cls, values: Array, kind: Kind, scale: int = 0) -> Squares:
        """Return the squares of values, one per cell, floats counted from about their mean."""
        centre = 0
        far = cls.far(values, 0)
        if kind == "float" and len(values) and not far:
            centre = int(values.mean())
            far = cls.far(values, centre)
        parts, rest = cls.split(values, kind, centre, far=far)
        return cls(parts, kind, scale, centre, rest)

    def spread(self, target: Ints, size: int) -> Squares:
        """Return the sums on other cells."""
        keep = target >= 0

        def spread(part: Array) -> Array:
            out = np.zeros(size, part.dtype)
            np.add.at(out, target[keep], part[keep])
            return out

        rest = None if self.rest is None else spread(self.rest)
        return Squares(tuple(map(spread, self.parts)), self.kind, self.scale, self.centre, rest)

    def about(self, like: Squares, sums: Sum, counts: Sum) -> Squares:
        """Return the same squares as the other keeps them: of floats if it does, and about its
        centre; `sums` and `counts` are those of the own values.
        """
        if "float" not in (self.kind, like.kind):
            return self
        made = self if self.kind == "float" else self._of_floats()
        shift = made.centre - (like.centre if like.kind == "float" else 0)
        if not shift:
            return made
        if sums.rest is None:
            sums = sums.like(Sum(sums.whole[:0], np.zeros(0), "float"))
        assert sums.rest is not None and made.rest is not None
        n = exact.wide(counts.whole)
        away = exact.wide(sums.whole) - n * made.centre
        moved = made.exact() + 2 * shift * away + shift**2 * n
        rest = made.rest + 2 * shift * sums.rest
        return Squares(_packed(moved), "float", 0, made.centre - shift, rest)

    def plus(self, other: Squares) -> Squares:
        """Return the sums of both, which are kept about one centre."""
        one, two = self._like(other), other._like(self)
        if len(one.parts) == len(two.parts):
            parts = tuple(a + b for a, b in zip(one.parts, two.parts, strict=True))
        else:
            parts = (one.exact() + two.exact(),)
        rest = None
        if one.rest is not None and two.rest is not None:
            rest = one.rest + two.rest
        return Squares(parts, one.kind, one.scale, one.centre, rest)

    @classmethod
    def of_exact(cls, squares: Array, kind: Kind, scale: int) -> Squares:
        """Return sums of squares that are given as Python integers, in units of 100**-scale."""
        return cls(_packed(squares), kind, scale)

    @classmethod
    def of_floats(cls, squares: NDArray[np.float64], centre: int) -> Squares:
        """Return sums of squares of floats about a centre, known as floats alone."""
        nearest = np.rint(squares)
        return cls((exact.wide(nearest),), "float", 0, centre, squares - nearest)

    def exact(self) -> Array:
        """Return the sums of squares of the whole parts as Python integers."""
        if len(self.parts) == 1:
            return self.parts[0]
        high, middle, low = (part.astype(object) for part in self.parts)
        return (high << (2 * _SHIFT)) + (middle << (_SHIFT + 1)) + low  # type: ignore[no-any-return]

    def _like(self, other: Squares) -> Squares:
        """Return the same sums with as many decimals as the other's."""
        if "float" in (self.kind, other.kind) or other.scale <= self.scale:
            return self
        units = self.exact() * 100 ** (other.scale - self.scale)
        return Squares.of_exact(units, other.kind, other.scale)

    def _of_floats(self) -> Squares:
        """Return the squares of whole numbers or decimals as those of floats."""
        unit = 100**self.scale
        whole, part = np.divmod(self.exact(), unit)
        rest = np.array([share / unit for share in part.tolist()], np.float64)
        return Squares((whole,), "float", 0, 0, rest)

    def prefix(self) -> Squares:
        """Return running sums with a leading zero."""
        rest = None if self.rest is None else running(self.rest)
        return Squares(tuple(map(running, self.parts)), self.kind, self.scale, self.centre, rest)

    def variance(
        self, sums: Sum, counts: Ints, lo: Ints, hi: Ints, *, root: bool = False
    ) -> NDArray[np.float64]:
        """Return the variance (divided by n-1) of ranges, or its root, from prefix sums.

        (n * sum of squares - square of sum) / (n * (n-1)), the numerator exact for whole
        numbers and decimals and the whole part of floats. Ranges of fewer than two values give
        anything; a variance beyond the floats is infinite.
        """
        inside = Squares(tuple(part[hi] - part[lo] for part in self.parts), self.kind)
        whole = exact.wide(sums.whole[hi] - sums.whole[lo]) - exact.wide(counts) * self.centre
        n = np.maximum(counts, 2)
        numerator = exact.wide(counts) * inside.exact() - whole * whole
        about = exact.floats(numerator)
        beyond = np.flatnonzero(np.isinf(about))
        if self.rest is not None and sums.rest is not None:
            rest = sums.rest[hi] - sums.rest[lo]
            own = np.where(rest == 0, 0.0, (2 * exact.floats(whole) + rest) * rest)
            about = about + (n * (self.rest[hi] - self.rest[lo]) - own)
        unit = 10.0**self.scale
        found = np.maximum(about, 0.0) / (n * (n - 1)) / unit / unit
        found = np.asarray(np.sqrt(found) if root else found, np.float64)
        for at in beyond.tolist():  # values beyond 1e150, of which there are few
            found[at] = _quotient(numerator[at], int(n[at]) * (int(n[at]) - 1), root=root)
        return found


def _quotient(top: int, bottom: int, *, root: bool) -> float:
    """Return a quotient of integers of any size, or its root, as the nearest float or so."""
    if top <= 0:
        return 0.0
    if root:
        shift = max(top.bit_length() - bottom.bit_length() - 128, 0) // 2
        return math.ldexp(math.sqrt((top >> (2 * shift)) / bottom), shift)
    try:
        return top / bottom
    except OverflowError:
        return math.inf


def _halves(whole: Array) -> tuple[Array, Array, Array]:
    high, low = whole >> _SHIFT, whole & ((1 << _SHIFT) - 1)
    return high * high, high * low, low * low


def _packed(squares: Array) -> tuple[Any, ...]:
    """Return Python integers in three parts, low ones small enough to be added up by the million,
    or as they are where the highest part might not fit.
    """
    if exact.most(squares) >= 1 << (2 * _SHIFT + 60):
        return (squares,)
    low = squares & ((1 << (_SHIFT + 1)) - 1)
    middle = (squares >> (_SHIFT + 1)) & ((1 << (_SHIFT - 1)) - 1)
    parts = (squares >> (2 * _SHIFT), middle, low)
    return tuple(part.astype(np.int64) for part in parts)
