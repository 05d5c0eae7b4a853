"""Tallies: what one plane holds per cell, and how cells come together.

Every tally can be spread onto other cells (`spread`: cell i goes to `target[i]`, several
may meet there, -1 is left out) and joined with another over the same cells (`plus`). Both
are exact and do not depend on the order of the parts, so a fold may be cut anywhere.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Column, Kind
from eptaro.core.days import Ints
from eptaro.core.errors import MeasureError
from eptaro.core.ranges import stable_order

Array = NDArray[Any]
Which = Literal["min", "max", "first", "last"]
_ROOM = float(2**63)


def _added(cells: Array, target: Ints, size: int) -> Array:
    out = np.zeros(size, cells.dtype)
    keep = target >= 0
    np.add.at(out, target[keep], cells[keep])
    return out


@dataclass(frozen=True, eq=False)
class Sum:
    """Sums: a whole part in int64, exact, and for floats a rest.

    Each float is split into its nearest whole number and what is left, so that cents
    survive any turnover. Decimals count units of 10**-scale.
    """

    whole: Ints
    rest: NDArray[np.float64] | None = None
    kind: Kind = "integer"
    scale: int = 0

    def spread(self, target: Ints, size: int) -> Sum:
        """Return the sums on other cells."""
        rest = None if self.rest is None else _added(self.rest, target, size)
        return Sum(_added(self.whole, target, size), rest, self.kind, self.scale)

    def plus(self, other: Sum) -> Sum:
        """Return the sums of both; scales and kinds are brought together."""
        one, two = self.like(other), other.like(self)
        _check_room(one.whole, two.whole)
        rest = None
        if one.rest is not None and two.rest is not None:
            rest = one.rest + two.rest
        return Sum(one.whole + two.whole, rest, one.kind, one.scale)

    def like(self, other: Sum) -> Sum:
        """Return the same sums in the wider of both kinds: integer, decimal, float."""
        if other.rest is not None and self.rest is None:
            unit = 10**self.scale
            whole, part = np.divmod(self.whole, unit)
            return Sum(whole, part / unit, "float")
        if self.rest is not None or other.scale <= self.scale:
            return self
        factor = 10 ** (other.scale - self.scale)
        if np.abs(self.whole.astype(np.float64)).max(initial=0) * factor >= _ROOM:
            raise MeasureError("a total does not fit into 64 bits with all its decimals")
        return Sum(self.whole * factor, None, other.kind, other.scale)

    def prefix(self) -> Sum:
        """Return running sums with a leading zero, so that a range is one subtraction.

        Whole parts may wrap around in between: differences are exact modulo 2**64, and
        the fold has made sure that no true total is that large.
        """
        rest = None if self.rest is None else running(self.rest)
        return Sum(running(self.whole), rest, self.kind, self.scale)

    def between(self, lo: Ints, hi: Ints) -> Column:
        """Return what prefix sums give for ranges of cells."""
        whole = self.whole[hi] - self.whole[lo]
        if self.rest is None:
            return Column.of("", self.kind, whole, scale=self.scale)
        return Column.of("", "float", whole + (self.rest[hi] - self.rest[lo]))


def _check_room(one: Ints, two: Ints) -> None:
    total = np.abs(one.astype(np.float64)).sum() + np.abs(two.astype(np.float64)).sum()
    if total >= 0.999 * _ROOM:
        raise MeasureError("a total does not fit into 64 bits; use fewer decimals")


def running(cells: Array) -> Array:
    """Return running sums with a leading zero."""
    out = np.zeros(len(cells) + 1, cells.dtype)
    np.cumsum(cells, out=out[1:])
    return out


@dataclass(frozen=True, eq=False)
class Pick:
    """One value per occupied cell: the least, the largest, the first or the last.

    `time` and `row` order first and last: by time in the day, then by place in the input.
    """

    which: Which
    cell: Ints
    value: Array
    time: Ints
    row: Ints
    kind: Kind = "integer"
    scale: int = 0

    def spread(self, target: Ints, size: int) -> Pick:
        """Return the values on other cells; where several meet, the one that wins."""
        cell = target[self.cell]
        keep = cell >= 0
        return self._of(cell[keep], self.value[keep], self.time[keep], self.row[keep])

    def plus(self, other: Pick) -> Pick:
        """Return the winners of both."""
        one, two = _alike(self, other)
        parts = (
            np.concatenate([getattr(side, name) for side in (one, two)])
            for name in ("cell", "value", "time", "row")
        )
        joined: Pick = one._of(*parts)
        return joined

    def _of(self, cell: Ints, value: Array, time: Ints, row: Ints) -> Pick:
        """Return one winner per cell, cells in order."""
        size = int(cell.max(initial=-1)) + 1
        return Pick.among(self.which, cell, value, time, row, size, self.kind, self.scale)

    @classmethod
    def among(
        cls, which: Which, cell: Ints, value: Array, time: Ints, row: Ints, size: int,
        kind: Kind, scale: int,
    ) -> Pick:  # fmt: skip
        """Return the winner of each of `size` cells among rows that name their cell.

        Rows that are not best by value, then by time, then by place are struck out in
        turn; the last of what is left is found by writing places into the cells.
        """
        left = np.arange(len(cell))
        keys = (value,) if which in ("min", "max") else (time, row)
        better = np.minimum if which in ("min", "first") else np.maximum
        for key in keys:
            worst = _worst(key.dtype, better is np.minimum)
            best = np.full(size, worst, key.dtype)
            better.at(best, cell[left], key[left])
            left = left[key[left] == best[cell[left]]]
        winner = np.full(size, -1, np.int64)
        winner[cell[left]] = left
        won = winner[winner >= 0]
        return cls(which, cell[won], value[won], time[won], row[won], kind, scale)


def _worst(dtype: np.dtype[Any], least_wins: bool) -> Any:
    if dtype.kind == "f":
        return np.inf if least_wins else -np.inf
    limits = np.iinfo(dtype)
    return limits.max if least_wins else limits.min


def _alike(one: Any, two: Any) -> tuple[Any, Any]:
    """Return two tallies of values with their kinds and scales brought together."""
    if one.kind == two.kind and one.scale == two.scale:
        return one, two
    if "float" in (one.kind, two.kind):
        return _rescaled(one, "float", 0), _rescaled(two, "float", 0)
    kind: Kind = "decimal" if "decimal" in (one.kind, two.kind) else one.kind
    scale = max(one.scale, two.scale)
    return _rescaled(one, kind, scale), _rescaled(two, kind, scale)


def _rescaled(tally: Any, kind: Kind, scale: int) -> Any:
    if kind == "float":
        value = tally.value / 10.0**tally.scale if tally.kind != "float" else tally.value
    else:
        value = tally.value * 10 ** (scale - tally.scale)
    return type(tally)(**{**vars(tally), "value": value, "kind": kind, "scale": scale})


@dataclass(frozen=True, eq=False)
class Entries:
    """All filled values, in the order of their cells: for quantiles and distinct counts."""

    cell: Ints
    value: Array
    kind: Kind = "integer"
    scale: int = 0

    def spread(self, target: Ints, size: int) -> Entries:
        """Return the values on other cells."""
        cell = target[self.cell]
        keep = cell >= 0
        return self.of(cell[keep], self.value[keep], self.kind, self.scale)

    def plus(self, other: Entries) -> Entries:
        """Return the values of both."""
        one, two = _alike(self, other)
        cell = np.concatenate([one.cell, two.cell])
        return self.of(cell, np.concatenate([one.value, two.value]), one.kind, one.scale)

    @classmethod
    def of(cls, cell: Ints, value: Array, kind: Kind, scale: int) -> Entries:
        """Return entries put in the order of their cells."""
        order = stable_order(cell)
        return cls(cell[order], value[order], kind, scale)
