"""`Squares`: sums of squares, from which variances come.

Whole numbers and decimals are kept exactly. So is the nearest whole number w of a float,
counted from a centre near the mean; what is left of it, r, adds t = (2*w + r) * r, of which the
nearest whole number is kept exactly too. So the spread of small values stays right beside
values a billion times as large.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.sums import RunningSum, Sum
from eptaro.core.kernels.adding import Array, added, running
from eptaro.core.tables import exact
from eptaro.core.tables.column import Kind

_LARGEST = 1 << 44  # values beyond are squared as Python integers


_LIMB = 30  # bits of each part of a square; 2**33 of them add up in 64 bits


_LOW = (1 << _LIMB) - 1


@dataclass(frozen=True, eq=False)
class Squares:
    """Sums of squares per cell: a whole part, exact at any size (see `core.tables.exact`), and the
    rest of floats, which are counted from `centre`.
    """

    whole: Array
    kind: Kind
    scale: int = 0
    centre: int = 0
    rest: NDArray[np.float64] | None = None

    @classmethod
    def of(cls, values: Array, kind: Kind, scale: int = 0) -> Squares:
        """Return the squares of values, one per cell, floats counted from about their mean."""
        if kind != "float":
            return cls.of_exact(exact.wide(values) ** 2, kind, scale)
        if values.dtype == object:  # some beyond the floats
            whole, rest = exact.parted(values)
            with np.errstate(over="ignore", invalid="ignore"):  # of those that have no rest
                beside = np.where(rest == 0, 0.0, (2 * exact.floats(whole) + rest) * rest)
            return cls(whole * whole, kind, scale, 0, beside)
        with np.errstate(over="ignore"):
            middle = float(np.mean(values)) if len(values) else 0.0
        centre = round(middle) if abs(middle) < 2**53 else 0
        away, whole, rest = parted(values, centre)
        squares = exact.wide(away) ** 2 + exact.wide(whole)
        return cls(exact.added_up(squares), kind, scale, centre, rest)

    def moved(self, target: Ints, size: int) -> Squares:
        """Return the sums on other cells."""
        rest = None if self.rest is None else added(self.rest, target, size)
        whole = added(self.whole, target, size)
        return Squares(whole, self.kind, self.scale, self.centre, rest)

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
        moved = exact.wide(made.whole) + 2 * shift * away + shift**2 * n
        rest = made.rest + 2 * shift * sums.rest
        return Squares(exact.added_up(moved), "float", 0, made.centre - shift, rest)

    def plus(self, other: Squares) -> Squares:
        """Return the sums of both, which are kept about one centre."""
        one, two = self._like(other), other._like(self)
        rest = None
        if one.rest is not None and two.rest is not None:
            rest = one.rest + two.rest
        whole = exact.plus(one.whole, two.whole)
        return Squares(whole, one.kind, one.scale, one.centre, rest)

    @classmethod
    def of_exact(cls, squares: Array, kind: Kind, scale: int) -> Squares:
        """Return sums of squares that are given as Python integers, in units of 100**-scale."""
        return cls(exact.added_up(squares), kind, scale)

    @classmethod
    def of_floats(cls, squares: NDArray[np.float64], centre: int) -> Squares:
        """Return sums of squares of floats about a centre, known as floats alone."""
        nearest = np.rint(squares)
        whole = exact.added_up(exact.wide(nearest))
        return cls(whole, "float", 0, centre, squares - nearest)

    def _like(self, other: Squares) -> Squares:
        """Return the same sums as the other keeps them: of floats, or with as many decimals."""
        if other.kind == "float":
            return self if self.kind == "float" else self._of_floats()
        if self.kind == "float" or other.scale <= self.scale:
            return self
        units = exact.wide(self.whole) * 100 ** (other.scale - self.scale)
        return Squares.of_exact(units, other.kind, other.scale)

    def _of_floats(self) -> Squares:
        """Return the squares of whole numbers or decimals as those of floats."""
        unit = 100**self.scale
        whole = exact.wide(self.whole) // unit
        part = exact.wide(self.whole) - whole * unit
        rest = np.array([share / unit for share in part.tolist()], np.float64)
        return Squares(exact.added_up(whole), "float", 0, 0, rest)

    def prefix(self) -> RunningSquares:
        """Return running sums with a leading zero."""
        rest = None if self.rest is None else running(self.rest)
        return RunningSquares(running(self.whole), rest, self.scale, self.centre)


@dataclass(frozen=True, eq=False)
class RunningSquares:
    """Running sums of squares with a leading zero, counted from `centre` where they are floats."""

    whole: Array
    rest: NDArray[np.float64] | None
    scale: int
    centre: int

    def variance(
        self, sums: RunningSum, counts: Ints, lo: Ints, hi: Ints, *, root: bool = False
    ) -> NDArray[np.float64]:
        """Return the variance (divided by n-1) of ranges, or its root, from prefix sums.

        (n * sum of squares - square of sum) / (n * (n-1)), the numerator exact for whole
        numbers and decimals and the whole part of floats. Ranges of fewer than two values give
        anything; a variance beyond the floats is infinite.
        """
        squares = exact.wide(self.whole[hi] - self.whole[lo])
        whole = exact.wide(sums.whole[hi] - sums.whole[lo]) - exact.wide(counts) * self.centre
        n = np.maximum(counts, 2)
        numerator = exact.wide(counts) * squares - whole * whole
        about = exact.floats(numerator)
        beyond = np.flatnonzero(np.isinf(about))
        if self.rest is not None and sums.rest is not None:
            rest = sums.rest[hi] - sums.rest[lo]
            with np.errstate(over="ignore", invalid="ignore"):  # of those that are beyond anyway
                own = np.where(rest == 0, 0.0, (2 * exact.floats(whole) + rest) * rest)
                about = about + (n * (self.rest[hi] - self.rest[lo]) - own)
        unit = 10.0**self.scale
        found = np.maximum(about, 0.0) / (n * (n - 1)) / unit / unit
        found = np.asarray(np.sqrt(found) if root else found, np.float64)
        for at in beyond.tolist():  # values beyond 1e150, of which there are few
            found[at] = _quotient(numerator[at], int(n[at]) * (int(n[at]) - 1), root=root)
        return found


class Squaring:
    """Sums of squares in the making: values are added row by row to their cells."""

    def __init__(self, values: Array, kind: Kind, centre: int, size: int) -> None:
        self._kind, self._centre = kind, centre
        largest = _largest(values, kind, centre)
        self._plain = (largest + 1) ** 2 * 2 * max(len(values), 1) < exact.ROOM
        self._wide = largest >= _LARGEST
        parts = 1 if self._plain or self._wide else 3
        self._parts = [np.zeros(size, object if self._wide else np.int64) for _ in range(parts)]
        self._rest = np.zeros(size) if kind == "float" else None

    def add(self, cell: Ints, values: Array) -> None:
        """Add values, each to its cell."""
        extra: Array | int = 0
        if self._rest is not None:
            values, extra, rest = parted(values, self._centre)
            np.add.at(self._rest, cell, rest)
        if self._wide:
            squares: tuple[Array, ...] = (exact.wide(values) ** 2 + extra,)
        elif self._plain:
            squares = (values.astype(np.int64) ** 2 + extra,)
        else:
            low, middle, high = limbs(np.abs(values))
            squares = (low + (extra & _LOW), middle + (extra >> _LIMB), high)
        for out, part in zip(self._parts, squares, strict=True):
            np.add.at(out, cell, part)

    def squares(self, scale: int) -> Squares:
        """Return the sums of all that were added."""
        whole: Array = self._parts[0]
        for number, part in enumerate(self._parts[1:], 1):
            whole = exact.wide(whole) + (exact.wide(part) << (number * _LIMB))
        return Squares(exact.added_up(whole), self._kind, scale, self._centre, self._rest)


def parted(values: Array, centre: int) -> tuple[Array, Array, NDArray[np.float64]]:
    """Return floats' nearest whole numbers from a centre on, w, and of what squares have beside
    w**2 the nearest whole number and the rest.
    """
    nearest = np.rint(values)
    left, away = values - nearest, nearest - centre
    large = bool((np.abs(away) >= _LARGEST).any())
    beside = (2 * np.where(left == 0, 0.0, away) + left) * left
    extra = np.rint(beside)
    whole = exact.wide(nearest) - centre if large else away.astype(np.int64)
    return whole, extra.astype(np.int64), beside - extra


def limbs(sizes: Ints) -> tuple[Ints, Ints, Ints]:
    """Return the squares of whole numbers from 0 to 2**44, in three parts of about 30 bits.

    x = a * 2**24 + b, so x**2 = a**2 * 2**48 + a*b * 2**25 + b**2; each of these is cut at
    2**30 and 2**60.

    >>> low, middle, high = limbs(np.array([2**44 - 3]))
    >>> int(low[0]) + (int(middle[0]) << 30) + (int(high[0]) << 60) == (2**44 - 3) ** 2
    True
    """
    a, b = sizes >> 24, sizes & ((1 << 24) - 1)
    aa, ab, bb = a * a, a * b, b * b
    low = (bb & _LOW) + ((ab & 31) << 25)
    middle = (bb >> _LIMB) + ((ab >> 5) & _LOW) + ((aa & 4095) << 18)
    return low, middle, (ab >> 35) + (aa >> 12)


def _largest(values: Array, kind: Kind, centre: int) -> int:
    """Return how far values lie from a centre at most, as a whole number."""
    if kind != "float":
        return exact.most(values)
    least = np.fmin.reduce(values, initial=np.inf)
    most = np.fmax.reduce(values, initial=-np.inf)
    if not least <= most:
        return 0
    return int(max(abs(float(least) - centre), abs(float(most) - centre))) + 1


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
