"""Values kept in each cell: `SelectedValues` (least, largest, first, last) and `ValueLists`."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, TypeVar

import numpy as np

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.folding import identity_of
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.kernels.sorting import Array, in_cell_order
from eptaro.core.results.column import ColumnKind
from eptaro.errors import InputError
from eptaro.record import record

Valued = TypeVar("Valued", "SelectedValues", "ValueLists")
Which = Literal["min", "max", "first", "last"]
_FEW_CELLS = 32  # cells are few where each holds so many values
_NO_DAYS = np.empty(0, np.int32)


@record
class SelectedValues:
    """One value per occupied cell: the least, the largest, the first or the last.

    `time` and `row` order first and last: by time in the day, then by place in the input.
    """

    which: Which
    cell: Ints
    value: Array
    time: Ints
    row: Ints
    kind: ColumnKind = "integer"
    scale: int = 0
    shared: Flags | None = None  # where rows of several groups have the deciding time
    choices: Array | None = None  # of text: all that occur, in order; a value is a place there

    def move(self, target: Ints, size: int, owner: Ints | None = None) -> SelectedValues:
        """Return the values on other cells; where several meet, the one that wins.

        `target` and `owner` are `(n_cells,)`.

        `owner` is the group of each cell, where groups meet: a first or last value at whose
        time several of them have one is `shared`, as only their order in the input decides.
        """
        cell = target[self.cell]
        moved = self.at(np.flatnonzero(cell >= 0))
        owners = None if owner is None else owner[moved.cell]
        return replace(moved, cell=cell[cell >= 0])._winner_of_each(owners)

    def plus(self, other: SelectedValues, *, apart: bool = False) -> SelectedValues:
        """Return the winners of both; where they are `apart`, a first or last value at whose time
        both have one is `shared`.
        """
        one, two = _align_kinds(self, other)
        cell, value, time, row = (
            np.concatenate(parts)
            for parts in (
                (one.cell, two.cell),
                (one.value, two.value),
                (one.time, two.time),
                (one.row, two.row),
            )
        )
        shared = None
        if one.shared is not None or two.shared is not None:
            shared = np.concatenate([side.flags() for side in (one, two)])
        both = replace(one, cell=cell, value=value, time=time, row=row, shared=shared)
        return both._winner_of_each(
            np.repeat([0, 1], [len(one.cell), len(two.cell)]) if apart else None
        )

    def at(self, places: Ints) -> SelectedValues:
        """Return some of the values. `places` is `(n,)`."""
        return replace(
            self,
            cell=self.cell[places],
            value=self.value[places],
            time=self.time[places],
            row=self.row[places],
            shared=None if self.shared is None else self.shared[places],
        )

    def between(self, lo: int, hi: int) -> SelectedValues:
        """Return the values of the cells `lo` to below `hi`."""
        first, last = np.searchsorted(self.cell, [lo, hi])
        some = self.at(np.arange(first, last))
        return replace(some, cell=some.cell - lo)

    def flags(self) -> Flags:
        """Return which values are shared."""
        return np.zeros(len(self.cell), bool) if self.shared is None else self.shared

    def _winner_of_each(self, owners: Ints | None = None) -> SelectedValues:
        """Return one winner per cell, cells in order. `owners` is `(n_values,)`."""
        size = int(self.cell.max(initial=-1)) + 1
        winner, undecided = self._winners(size)
        won = winner[winner >= 0]
        shared = self.shared
        if owners is not None and self.which in ("first", "last"):
            cells, owners = self.cell[undecided], owners[undecided]
            least, largest = np.full(size, np.iinfo(np.int64).max), np.full(size, -1, np.int64)
            np.minimum.at(least, cells, owners)
            np.maximum.at(largest, cells, owners)
            shared = self.flags() | (least != largest)[self.cell]
        return replace(self, shared=shared).at(won)

    def ends(self, size: int) -> Ints:
        """Return how many values come before each of `size` cells, and, last, all."""
        return running_sums(np.bincount(self.cell, minlength=size))

    def winners_of(self, size: int) -> SelectedValues:
        """Return the winner of each of `size` cells among rows that name their cell."""
        winner, _ = self._winners(size)
        return self.at(winner[winner >= 0])

    def _winners(self, size: int) -> tuple[Ints, Ints]:
        """Return the place of each cell's winner, -1 for none, and those best by value or time.

        Rows that are not best by value, then by time, then by place are struck out in
        turn; the last of what is left is found by writing places into the cells.
        """
        undecided = best_first = np.arange(len(self.cell))
        keys = (self.value,) if self.which in ("min", "max") else (self.time, self.row)
        better = np.minimum if self.which in ("min", "first") else np.maximum
        for number, key in enumerate(keys):
            no_better = identity_of(key.dtype, least_wins=better is np.minimum)
            best = np.full(size, no_better, key.dtype)
            better.at(best, self.cell[undecided], key[undecided])
            undecided = undecided[key[undecided] == best[self.cell[undecided]]]
            best_first = best_first if number else undecided
        winner = np.full(size, -1, np.int64)
        winner[self.cell[undecided]] = undecided
        return winner, best_first


def _with_shared_scale(one: Valued, two: Valued) -> tuple[Valued, Valued]:
    """Return two tallies of values with their kinds and scales brought together."""
    if one.kind == two.kind and one.scale == two.scale:
        return one, two
    if "float" in (one.kind, two.kind):
        return _rescale(one, "float", 0), _rescale(two, "float", 0)
    kind: ColumnKind = "decimal" if "decimal" in (one.kind, two.kind) else one.kind
    scale = max(one.scale, two.scale)
    return _rescale(one, kind, scale), _rescale(two, kind, scale)


def _align_kinds(one: SelectedValues, two: SelectedValues) -> tuple[SelectedValues, SelectedValues]:
    """Return two picks with their kinds brought together; texts represent places among the
    choices of both.

    Raises `InputError` where one holds numbers and the other texts or dates.
    """
    if {one.kind, two.kind} <= {"integer", "decimal", "float"}:
        return _with_shared_scale(one, two)
    if not len(one.cell) or not len(two.cell):  # a part that is all blank is of any kind
        filled, none = (one, two) if len(one.cell) else (two, one)
        emptied = replace(filled.at(np.zeros(0, np.int64)), which=none.which)
        return (filled, emptied) if len(one.cell) else (emptied, filled)
    if one.kind != two.kind:
        raise InputError(f"a column holds {one.kind} values in one part and {two.kind} in another")
    if one.choices is None or two.choices is None:
        return one, two  # dates
    every, places = np.unique(np.concatenate([one.choices, two.choices]), return_inverse=True)
    cut = len(one.choices)
    first = replace(one, value=places[:cut][one.value], choices=every)
    return first, replace(two, value=places[cut:][two.value], choices=every)


def _rescale(tally: Valued, kind: ColumnKind, scale: int) -> Valued:
    if kind == "float":
        value = bigint.to_floats(tally.value) / 10.0**tally.scale
    else:
        value = bigint.multiply(tally.value, 10 ** (scale - tally.scale))
    return replace(tally, value=value, kind=kind, scale=scale)


@record
class ValueLists:
    """All filled values, in the order of their cells: for quantiles and distinct counts."""

    cell: Ints
    value: Array
    kind: ColumnKind = "integer"
    scale: int = 0

    def move(self, target: Ints, size: int) -> ValueLists:
        """Return the values on other cells. `target` is `(n_cells,)`."""
        cell = target[self.cell]
        keep = cell >= 0
        return self.of(cell[keep], self.value[keep], self.kind, self.scale)

    def plus(self, other: ValueLists) -> ValueLists:
        """Return the values of both."""
        one, two = _with_shared_scale(self, other)
        cell = np.concatenate([one.cell, two.cell])
        return self.of(cell, np.concatenate([one.value, two.value]), one.kind, one.scale)

    def ends(self, size: int) -> Ints:
        """Return how many values come before each of `size` cells, and, last, all."""
        if _FEW_CELLS * size < len(self.cell):
            return np.searchsorted(self.cell, np.arange(size + 1, dtype=self.cell.dtype))
        return running_sums(np.bincount(self.cell, minlength=size))

    def between(self, lo: int, hi: int) -> ValueLists:
        """Return the values of the cells `lo` to below `hi`."""
        first, last = np.searchsorted(self.cell, [lo, hi])
        return replace(self, cell=self.cell[first:last] - lo, value=self.value[first:last])

    @classmethod
    def of(cls, cell: Ints, value: Array, kind: ColumnKind, scale: int) -> ValueLists:
        """Return entries put in the order of their cells. `cell` and `value` are `(n_entries,)`."""
        size = int(cell.max(initial=-1)) + 1
        moved = np.arange(len(cell)) if value.dtype == object else value
        cell, moved = in_cell_order(_NO_DAYS, cell, 0, 1, moved, size)
        return cls(cell, value[moved] if value.dtype == object else moved, kind, scale)
