"""Sums of values and of squares per cell, exact."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.folding import square_remainder
from eptaro.core.kernels.parallel import run_parallel
from eptaro.core.kernels.range_sums import (
    Array,
    add_cells,
    added_together,
    growth_between,
    running_sums,
)
from eptaro.core.results.column import Column, ColumnKind
from eptaro.record import record

_ROOM = float(2**63)
_MANY = 1 << 18  # cells, for which a second thread pays


@record
class Sum:
    """Sums per cell: a whole part, exact at any size (see `core.results.exact`), and for floats a
    rest.

    Each float is split into its nearest whole number and what is left, so that cents
    survive any turnover. Decimals count units of 10**-scale.
    """

    whole: Array
    rest: NDArray[np.float64] | None = None
    kind: ColumnKind = "integer"
    scale: int = 0

    @classmethod
    def of(cls, values: Array, kind: ColumnKind, scale: int = 0) -> Sum:
        """Return values, one per cell, ready to be added up; floats must be finite.

        `values` is `(n_cells,)`.
        """
        if kind != "float":
            return cls(bigint.added_up(values), None, kind, scale)
        if values.dtype == object:
            whole, rest = bigint.split_nearest(values)
            return cls(bigint.added_up(whole), rest, "float")
        nearest = np.rint(values)
        huge = bool((np.abs(nearest) >= _ROOM).any())
        whole = bigint.widen(nearest) if huge else nearest.astype(np.int64)
        return cls(bigint.added_up(whole), values - nearest, "float")

    def move(self, target: Ints, size: int) -> Sum:
        """Return the sums on other cells. `target` is `(n_cells,)`."""
        rest = None if self.rest is None else add_cells(self.rest, target, size)
        return Sum(add_cells(self.whole, target, size), rest, self.kind, self.scale)

    def between(self, lo: int, hi: int) -> Sum:
        """Return the sums of the cells `lo` to below `hi`."""
        rest = None if self.rest is None else self.rest[lo:hi]
        return replace(self, whole=self.whole[lo:hi], rest=rest)

    def plus(self, other: Sum) -> Sum:
        """Return the sums of both, which are of the same cells."""
        return Sum.together([self, other], [None, None], len(self.whole))

    @staticmethod
    def together(parts: Sequence[Sum], onto: Sequence[Ints | None], size: int) -> Sum:
        """Return the sums of several parts on `size` cells; `onto` names those that each part's
        go to, None where it has them already. Scales and kinds are brought together.

        Each array of `onto` is `(n_cells_of_the_part,)`.
        """
        widest = parts[0]
        for part in parts[1:]:
            widest = widest.like(part)
        parts = [part.like(widest) for part in parts]
        whole = [part.whole for part in parts]
        if not bigint.stays_int64(*whole):
            whole = [bigint.widen(part) for part in whole]
        rest = [part.rest for part in parts if part.rest is not None]
        return Sum(
            added_together(whole, onto, size),
            added_together(rest, onto, size) if rest else None,
            widest.kind,
            widest.scale,
        )

    def like(self, other: Sum) -> Sum:
        """Return the same sums in the wider of both kinds: integer, decimal, float."""
        if other.rest is not None and self.rest is None:
            unit = 10**self.scale
            whole = self.whole // unit  # of Python integers there is no divmod
            return Sum(whole, bigint.to_floats(self.whole - whole * unit) / unit, "float")
        if self.rest is not None or other.scale <= self.scale:
            return self
        units = bigint.multiply(self.whole, 10 ** (other.scale - self.scale))
        return Sum(bigint.added_up(units), None, other.kind, other.scale)

    def prefix(self) -> RunningSum:
        """Return running sums with a leading zero, so that a range is one subtraction."""
        parts = [self.whole, *([] if self.rest is None else [self.rest])]
        if len(self.whole) < _MANY:
            whole, *rest = map(running_sums, parts)
        else:
            whole, *rest = run_parallel([partial(running_sums, part) for part in parts])
        return RunningSum(whole, rest[0] if rest else None, self.kind, self.scale)


@record
class RunningSum:
    """Running sums of cells with a leading zero; never added up themselves.

    Entry i is the sum of the cells before cell i, so there is one entry more than cells.
    """

    whole: Array
    rest: NDArray[np.float64] | None
    kind: ColumnKind
    scale: int

    def between(self, lo: Ints, hi: Ints) -> Column:
        """Return the sums of half-open ranges lo..hi of cells. `lo` and `hi` are `(n_ranges,)`."""
        if self.whole.dtype != object:
            return self._between(lo, hi)
        whole = bigint.narrow_integers(self.whole[hi] - self.whole[lo])
        if self.rest is None:
            return Column.of("", self.kind, whole, scale=self.scale)
        if whole.dtype != object:
            return Column.of("", "float", whole + (self.rest[hi] - self.rest[lo]))
        about = bigint.to_floats(whole)
        sums = about + (self.rest[hi] - self.rest[lo])
        beyond = np.isinf(about)  # what does not fit into a float is reported where it is shown
        return Column.of("", "float", np.where(beyond, whole, sums) if beyond.any() else sums)

    def _between(self, lo: Ints, hi: Ints) -> Column:
        """`lo` and `hi` are `(n_ranges,)`."""
        sums = growth_between(self.whole, lo, hi, self.rest)
        if self.rest is None:
            return Column.of("", self.kind, sums, scale=self.scale)
        return Column.of("", "float", sums)


_PARTS = 64  # bits behind the point that the rests of floats are calculated with


LARGEST_SQUARED = 1 << 44  # values from there on are squared as Python integers


@record
class Squares:
    """Sums of squares per cell: a whole part, exact at any size (see `core.results.exact`), and the
    rest of floats, which are counted from `centre`.
    """

    whole: Array
    kind: ColumnKind
    scale: int = 0
    centre: int = 0
    rest: NDArray[np.float64] | None = None

    @classmethod
    def of(cls, values: Array, kind: ColumnKind, scale: int = 0) -> Squares:
        """Return the squares of values, one per cell, floats counted from about their mean.

        `values` is `(n_cells,)`.
        """
        if kind != "float":
            return cls.of_exact(square_values(values, kind, 0)[0], kind, scale)
        if values.dtype == object:  # some beyond the floats
            whole, low = bigint.split_nearest(values)
            with np.errstate(over="ignore", invalid="ignore"):  # of those that have no rest
                beside = np.where(low == 0, 0.0, (2 * bigint.to_floats(whole) + low) * low)
            return cls(whole * whole, kind, scale, 0, beside)
        with np.errstate(over="ignore"):
            middle = float(np.mean(values)) if len(values) else 0.0
        centre = round(middle) if abs(middle) < 2**53 else 0
        squares, rest = square_values(values, kind, centre)
        return cls(bigint.added_up(squares), kind, scale, centre, rest)

    def move(self, target: Ints, size: int) -> Squares:
        """Return the sums on other cells. `target` is `(n_cells,)`."""
        rest = None if self.rest is None else add_cells(self.rest, target, size)
        whole = add_cells(self.whole, target, size)
        return Squares(whole, self.kind, self.scale, self.centre, rest)

    def between(self, lo: int, hi: int) -> Squares:
        """Return the sums of the cells `lo` to below `hi`."""
        rest = None if self.rest is None else self.rest[lo:hi]
        return replace(self, whole=self.whole[lo:hi], rest=rest)

    def about(self, like: Squares, sums: Sum, counts: Sum) -> Squares:
        """Return the same squares as the other keeps them: of floats if it does, and about its
        centre; `sums` and `counts` are those of the own values.
        """
        if "float" not in (self.kind, like.kind):
            return self
        squares = self if self.kind == "float" else self._of_floats()
        shift = squares.centre - (like.centre if like.kind == "float" else 0)
        if not shift:
            return squares
        if sums.rest is None:
            sums = sums.like(Sum(sums.whole[:0], np.zeros(0), "float"))
        assert sums.rest is not None and squares.rest is not None
        n = bigint.widen(counts.whole)
        away = bigint.widen(sums.whole) - n * squares.centre
        moved = bigint.widen(squares.whole) + 2 * shift * away + shift**2 * n
        rest = squares.rest + 2 * shift * sums.rest
        return Squares(bigint.added_up(moved), "float", 0, squares.centre - shift, rest)

    def plus(self, other: Squares) -> Squares:
        """Return the sums of both, which are kept about one centre."""
        one, two = self._like(other), other._like(self)
        rest = None
        if one.rest is not None and two.rest is not None:
            rest = one.rest + two.rest
        whole = bigint.add(one.whole, two.whole)
        return Squares(whole, one.kind, one.scale, one.centre, rest)

    @classmethod
    def of_exact(cls, squares: Array, kind: ColumnKind, scale: int) -> Squares:
        """Return sums of squares that are given as Python integers, in units of 100**-scale.

        `squares` is `(n_cells,)`.
        """
        return cls(bigint.added_up(squares), kind, scale)

    @classmethod
    def of_floats(cls, squares: NDArray[np.float64], centre: int) -> Squares:
        """Return sums of squares of floats about a centre, known as floats alone.

        `squares` is `(n_cells,)`.
        """
        nearest = np.rint(squares)
        whole = bigint.added_up(bigint.widen(nearest))
        return cls(whole, "float", 0, centre, squares - nearest)

    def _like(self, other: Squares) -> Squares:
        """Return the same sums as the other keeps them: of floats, or with as many decimals."""
        if other.kind == "float":
            return self if self.kind == "float" else self._of_floats()
        if self.kind == "float" or other.scale <= self.scale:
            return self
        units = bigint.widen(self.whole) * 100 ** (other.scale - self.scale)
        return Squares.of_exact(units, other.kind, other.scale)

    def _of_floats(self) -> Squares:
        """Return the squares of whole numbers or decimals as those of floats."""
        unit = 100**self.scale
        whole = bigint.widen(self.whole) // unit
        part = bigint.widen(self.whole) - whole * unit
        rest = np.array([share / unit for share in part.tolist()], np.float64)
        return Squares(bigint.added_up(whole), "float", 0, 0, rest)

    def prefix(self) -> RunningSquares:
        """Return running sums with a leading zero."""
        rest = None if self.rest is None else running_sums(self.rest)
        return RunningSquares(running_sums(self.whole), rest, self.scale, self.centre)


@record
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

        `counts`, `lo`, `hi` and the result are `(n_ranges,)`.

        (n * sum of squares - square of sum) / (n * (n-1)), the numerator exact for whole
        numbers and decimals and the whole part of floats. Ranges of fewer than two values give
        anything; a variance beyond the floats is infinite.
        """
        squares = bigint.widen(self.whole[hi] - self.whole[lo])
        whole = bigint.widen(sums.whole[hi] - sums.whole[lo]) - bigint.widen(counts) * self.centre
        n, shift = np.maximum(counts, 2), 0
        if self.rest is not None and sums.rest is not None:
            shift = _PARTS
            whole = (whole << shift) + _parts_of(sums.rest[hi] - sums.rest[lo])
            squares = (squares << shift) + _parts_of(self.rest[hi] - self.rest[lo])
        numerator = ((bigint.widen(counts) * squares) << shift) - whole * whole
        about = bigint.to_floats(numerator)
        beyond = np.flatnonzero(np.isinf(about))
        unit = 10.0**self.scale
        variances = np.maximum(about, 0.0) / (n * (n - 1)) / unit / unit / 4.0**shift
        variances = np.asarray(np.sqrt(variances) if root else variances, np.float64)
        for at in beyond.tolist():  # values beyond 1e130, of which there are few
            bottom = (int(n[at]) * (int(n[at]) - 1)) << (2 * shift)
            variances[at] = _quotient_of_integers(numerator[at], bottom, root=root)
        return variances


def _parts_of(rest: NDArray[np.float64]) -> Array:
    """Return floats in whole parts of 2**-64. `rest` and the result are `(n_cells,)`."""
    return bigint.widen(np.rint(rest * 2.0**_PARTS))


def square_values(
    values: Array, kind: ColumnKind, centre: int
) -> tuple[Array, NDArray[np.float64] | None]:
    """Return the squares of values of any size from a centre on: the nearest whole numbers, as
    Python integers, and of floats the rest.

    `values` is `(n,)`, and so are the results.
    """
    if kind != "float":
        return bigint.widen(values) ** 2, None
    away, extra, rest = split_floats(values, centre)
    return bigint.widen(away) ** 2 + bigint.widen(extra), rest


def split_floats(values: Array, centre: int) -> tuple[Array, Array, NDArray[np.float64]]:
    """Return floats' nearest whole numbers from a centre on, w, and of what squares have beside
    w**2 the nearest whole number and the rest.

    `values` is `(n,) float64`, and so are the results.
    """
    nearest = np.rint(values)
    low, away = values - nearest, nearest - centre
    large = bool((np.abs(away) >= LARGEST_SQUARED).any())
    extra, rest = square_remainder(np.where(low == 0, 0.0, away), low)
    whole = bigint.widen(nearest) - centre if large else away.astype(np.int64)
    return whole, extra.astype(np.int64), rest


def _quotient_of_integers(top: int, bottom: int, *, root: bool) -> float:
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
