"""Tallies: what one plane holds per cell, and how cells come together.

Every tally can be spread onto other cells (`spread`: cell i goes to `target[i]`, several
may meet there, -1 is left out) and joined with another over the same cells (`plus`). Both
are exact and do not depend on the order of the parts, so a fold may be cut anywhere.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from eptaro.core import exact
from eptaro.core.column import Column, Kind
from eptaro.core.days import Flags, Ints
from eptaro.core.ranges import stable_order

Array = NDArray[Any]
Which = Literal["min", "max", "first", "last"]
_ROOM = float(2**63)


def added(cells: Array, target: Ints, size: int) -> Array:
    """Return cells on others: cell i goes to `target[i]`, several add up, -1 is left out."""
    out = np.zeros(size, cells.dtype)
    keep = target >= 0
    np.add.at(out, target[keep], cells[keep])
    return out


@dataclass(frozen=True, eq=False)
class Sum:
    """Sums: a whole part, exact at any size (see `eptaro.core.exact`), and for floats a rest.

    Each float is split into its nearest whole number and what is left, so that cents
    survive any turnover. Decimals count units of 10**-scale.
    """

    whole: Array
    rest: NDArray[np.float64] | None = None
    kind: Kind = "integer"
    scale: int = 0

    @classmethod
    def of(cls, values: Array, kind: Kind, scale: int = 0) -> Sum:
        """Return values, one per cell, ready to be added up; floats must be finite."""
        if kind != "float":
            return cls(exact.added_up(values), None, kind, scale)
        if values.dtype == object:
            whole, rest = exact.parted(values)
            return cls(exact.added_up(whole), rest, "float")
        nearest = np.rint(values)
        huge = bool((np.abs(nearest) >= _ROOM).any())
        whole = exact.wide(nearest) if huge else nearest.astype(np.int64)
        return cls(exact.added_up(whole), values - nearest, "float")

    def spread(self, target: Ints, size: int) -> Sum:
        """Return the sums on other cells."""
        rest = None if self.rest is None else added(self.rest, target, size)
        return Sum(added(self.whole, target, size), rest, self.kind, self.scale)

    def plus(self, other: Sum) -> Sum:
        """Return the sums of both; scales and kinds are brought together."""
        one, two = self.like(other), other.like(self)
        rest = None
        if one.rest is not None and two.rest is not None:
            rest = one.rest + two.rest
        return Sum(exact.plus(one.whole, two.whole), rest, one.kind, one.scale)

    def like(self, other: Sum) -> Sum:
        """Return the same sums in the wider of both kinds: integer, decimal, float."""
        if other.rest is not None and self.rest is None:
            unit = 10**self.scale
            whole, part = np.divmod(self.whole, unit)
            return Sum(whole, exact.floats(part) / unit, "float")
        if self.rest is not None or other.scale <= self.scale:
            return self
        units = exact.times(self.whole, 10 ** (other.scale - self.scale))
        return Sum(exact.added_up(units), None, other.kind, other.scale)

    def prefix(self) -> Sum:
        """Return running sums with a leading zero, so that a range is one subtraction."""
        rest = None if self.rest is None else running(self.rest)
        return Sum(running(self.whole), rest, self.kind, self.scale)

    def between(self, lo: Ints, hi: Ints) -> Column:
        """Return what prefix sums give for ranges of cells."""
        whole = exact.narrow(self.whole[hi] - self.whole[lo])
        if self.rest is None:
            return Column.of("", self.kind, whole, scale=self.scale)
        if whole.dtype != object:
            return Column.of("", "float", whole + (self.rest[hi] - self.rest[lo]))
        about = exact.floats(whole)
        found = about + (self.rest[hi] - self.rest[lo])
        beyond = np.isinf(about)  # what does not fit into a float is told where it is shown
        return Column.of("", "float", np.where(beyond, whole, found) if beyond.any() else found)


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
    shared: Flags | None = None  # where rows of several groups have the deciding time

    def spread(self, target: Ints, size: int, owner: Ints | None = None) -> Pick:
        """Return the values on other cells; where several meet, the one that wins.

        `owner` is the group of each cell, where groups meet: a first or last value at whose
        time several of them have one is `shared`, as only their order in the input decides.
        """
        cell = target[self.cell]
        kept = self.at(np.flatnonzero(cell >= 0))
        owners = None if owner is None else owner[kept.cell]
        return replace(kept, cell=cell[cell >= 0])._won(owners)

    def plus(self, other: Pick) -> Pick:
        """Return the winners of both."""
        one, two = _alike(self, other)
        joined = {
            name: np.concatenate([getattr(side, name) for side in (one, two)])
            for name in ("cell", "value", "time", "row")
        }
        shared = None
        if one.shared is not None or two.shared is not None:
            shared = np.concatenate([side.flags() for side in (one, two)])
        made: Pick = replace(one, **joined, shared=shared)
        return made._won()

    def at(self, places: Ints) -> Pick:
        """Return some of the values."""
        parts = {name: getattr(self, name)[places] for name in ("cell", "value", "time", "row")}
        shared = None if self.shared is None else self.shared[places]
        return replace(self, **parts, shared=shared)

    def flags(self) -> Flags:
        """Return which values are shared."""
        return np.zeros(len(self.cell), bool) if self.shared is None else self.shared

    def _won(self, owners: Ints | None = None) -> Pick:
        """Return one winner per cell, cells in order."""
        size = int(self.cell.max(initial=-1)) + 1
        winner, left = self._winners(size)
        won = winner[winner >= 0]
        shared = self.shared
        if owners is not None and self.which in ("first", "last"):
            cells, owners = self.cell[left], owners[left]
            least, largest = np.full(size, np.iinfo(np.int64).max), np.full(size, -1, np.int64)
            np.minimum.at(least, cells, owners)
            np.maximum.at(largest, cells, owners)
            shared = self.flags() | (least != largest)[self.cell]
        return replace(self, shared=shared).at(won)

    @classmethod
    def among(
        cls, which: Which, cell: Ints, value: Array, time: Ints, row: Ints, size: int,
        kind: Kind, scale: int,
    ) -> Pick:  # fmt: skip
        """Return the winner of each of `size` cells among rows that name their cell."""
        every = cls(which, cell, value, time, row, kind, scale)
        winner, _ = every._winners(size)
        return every.at(winner[winner >= 0])

    def _winners(self, size: int) -> tuple[Ints, Ints]:
        """Return the place of each cell's winner, -1 for none, and those best by value or time.

        Rows that are not best by value, then by time, then by place are struck out in
        turn; the last of what is left is found by writing places into the cells.
        """
        left = best_first = np.arange(len(self.cell))
        keys = (self.value,) if self.which in ("min", "max") else (self.time, self.row)
        better = np.minimum if self.which in ("min", "first") else np.maximum
        for number, key in enumerate(keys):
            worst = _worst(key.dtype, better is np.minimum)
            best = np.full(size, worst, key.dtype)
            better.at(best, self.cell[left], key[left])
            left = left[key[left] == best[self.cell[left]]]
            best_first = best_first if number else left
        winner = np.full(size, -1, np.int64)
        winner[self.cell[left]] = left
        return winner, best_first


def _worst(dtype: np.dtype[Any], least_wins: bool) -> Any:
    if dtype.kind in "fO":
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
        value = exact.floats(tally.value) / 10.0**tally.scale
    else:
        value = exact.times(tally.value, 10 ** (scale - tally.scale))
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
