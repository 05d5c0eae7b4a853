"""Cells: transactions folded to one entry per group, day and plane."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Literal, NamedTuple, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.axis import Axis, union_axis, union_renumbered
from eptaro.core.aggregation.selected import SelectedValues, ValueLists
from eptaro.core.aggregation.sums import RunningSquares, RunningSum, Squares, Sum
from eptaro.core.calendars.days import Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.allocation import is_on_disk, on_disk
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.kernels.sorting import met_first
from eptaro.core.results.column import Column
from eptaro.record import record

What: TypeAlias = Literal[
    "rows", "filled", "sum", "square", "min", "max", "first", "last", "values", "codes"
]


class Plane(NamedTuple):
    """What the fold keeps per cell.

    `rows`, or of a column: `filled` (how many are not blank), `sum`, `square`, `min`,
    `max`, `first`, `last`, `values` (all of them) or `codes` (which of its values).
    """

    what: What
    column: str = ""


ROWS = Plane("rows")

# The calculations that the time of rows decides, and what is kept for each.
BY_TIME: Mapping[str, What] = {"first": "first", "last": "last"}

_MOST_AT_ONCE = 1 << 26  # cells that are put in one order, which takes room
Tally = Sum | Squares | SelectedValues | ValueLists


@record
class Cells:
    """All planes over one axis of groups and days."""

    axis: Axis
    tallies: Mapping[Plane, Tally]

    def move(self, axis: Axis, target: Ints, owner: Ints | None = None) -> Cells:
        """Return the cells on another axis: cell i goes to `target[i]`, several may meet there,
        -1 is left out. `owner` is the group of each cell, where cells of several groups meet.

        `target` and `owner` are `(n_cells,)`.
        """
        size = axis.size

        def moved(tally: Tally) -> Tally:
            if isinstance(tally, SelectedValues):
                return tally.move(target, size, owner)
            return tally.move(target, size)

        return Cells(axis, _each_once(self.tallies, moved))

    def regroup(self, target: Ints, count: int) -> Cells:
        """Return the cells with group i renumbered to `target[i]`; groups may meet, -1 leaves.

        `target` is `(n_groups,)`.
        """
        axis, places = self.axis.regroup(target, count)
        # Only where groups meet does it matter whose value came first or last.
        mapped = target[target >= 0]
        meet = int(np.bincount(mapped, minlength=1).max()) > 1
        owner = self.axis.cells_of()[0] if meet else None
        return self.move(axis, places, owner)

    def plus(self, other: Cells, *, apart: bool = False) -> Cells:
        """Return the cells of both; groups are numbered alike in both. Where they are `apart`, a
        group of either is made of others, and neither's rows come before the other's.
        """
        axis, onto = union_axis([self.axis, other.axis])
        summed = {plane for plane, tally in self.tallies.items() if isinstance(tally, Sum)}
        one, two = (
            side if places is None else side._extra_planes(summed).move(axis, places)
            for side, places in zip((self, other), onto, strict=True)
        )
        tallies: dict[Plane, Tally] = {}
        summed_up: dict[tuple[int, int], Sum] = {}
        for plane, tally in self.tallies.items():
            beside = other.tallies[plane]
            if isinstance(tally, Sum) and isinstance(beside, Sum):
                # Counts of rows and of filled values are often one array, which is added once.
                key = id(tally), id(beside)
                if key not in summed_up:
                    summed_up[key] = Sum.together([tally, beside], onto, axis.size)
                tallies[plane] = summed_up[key]
            else:
                tallies[plane] = _join_tally(one.tallies[plane], plane, two.tallies, apart)
        return Cells(axis, tallies)

    def _extra_planes(self, summed: set[Plane]) -> Cells:
        """Return the planes that are not summed, and the sums that squares need."""
        planes = {plane for plane in self.tallies if plane not in summed}
        # Squares about different centres are brought to one by the sums and counts.
        for plane in [plane for plane in planes if plane.what == "square"]:
            planes |= {Plane(what, plane.column) for what in ("sum", "filled")}
        return Cells(self.axis, {p: t for p, t in self.tallies.items() if p in planes})

    def check(self) -> None:
        """Raise `ValueError` unless every plane has the axis's cells and none is out of order."""
        for plane, tally in self.tallies.items():
            if isinstance(tally, Sum | Squares):
                fits = len(tally.whole) == self.axis.size
            else:
                ordered = (np.diff(tally.cell) >= 0).all()
                fits = bool(ordered and (tally.cell < self.axis.size).all())
            if not fits:
                raise ValueError(f"plane {plane} does not fit its axis")

    def days_with_rows(self) -> Ints:
        """Return the day ordinals on which any group has rows, in order."""
        axis, tally = self.axis, self.tallies[ROWS]
        assert isinstance(tally, Sum)
        filled = np.zeros(axis.days, bool)
        if axis.keys is None:
            filled[:] = (tally.whole.reshape(axis.groups, axis.days) > 0).any(axis=0)
        else:
            filled[axis.keys[tally.whole > 0] % axis.days] = True
        days: Ints = axis.first_day + np.flatnonzero(filled)
        return days

    def groups_with_rows(self) -> NDArray[np.bool_]:
        """Return which groups have any rows."""
        axis, tally = self.axis, self.tallies[ROWS]
        assert isinstance(tally, Sum)
        if axis.keys is None:
            return np.asarray((tally.whole.reshape(axis.groups, axis.days) > 0).any(axis=1))
        filled, has_rows = np.zeros(axis.groups, bool), tally.whole > 0
        keys = axis.keys if has_rows.all() else axis.keys[has_rows]  # that of all is the usual one
        filled[keys // axis.days] = True
        return filled

    @property
    def memory(self) -> int:
        """The bytes of memory that all planes take."""
        tallies = {id(tally): tally for tally in self.tallies.values()}
        arrays = [part for tally in tallies.values() for part in vars(tally).values()]
        arrays.append(self.axis.keys)
        in_memory = [
            part for part in arrays if isinstance(part, np.ndarray) and not is_on_disk(part)
        ]
        return sum(part.nbytes for part in in_memory)

    def on_disk(self) -> Cells:
        """Return the cells with their arrays in files."""

        def kept(tally: Tally) -> Tally:
            arrays: Any = {
                n: on_disk(v) for n, v in vars(tally).items() if isinstance(v, np.ndarray)
            }
            return replace(tally, **arrays)

        return Cells(self.axis.on_disk(), _each_once(self.tallies, kept))

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs, without running sums."""
        return {"axis": self.axis, "tallies": self.tallies}

    # ---- questions --------------------------------------------------------------

    @cached_property
    def _running(self) -> _Running:
        return _Running({}, {}, {}, {})

    def running_sum(self, plane: Plane) -> RunningSum:
        """Return the running sums of a summed plane, calculated once."""
        sums, tally = self._running.sums, self.tallies[plane]
        if plane not in sums:
            assert isinstance(tally, Sum)
            # Planes that share an array share its running sums as well.
            same = (p for p in sums if self.tallies[p] is tally)
            other = next(same, None)
            sums[plane] = tally.prefix() if other is None else sums[other]
        return sums[plane]

    def running_squares(self, plane: Plane) -> RunningSquares:
        """Return the running sums of a plane of squares, calculated once."""
        squares = self._running.squares
        if plane not in squares:
            tally = self.tallies[plane]
            assert isinstance(tally, Squares)
            squares[plane] = tally.prefix()
        return squares[plane]

    def sums(self, plane: Plane, lo: Ints, hi: Ints) -> Column:
        """Return a summed plane's totals over ranges of cells. `lo` and `hi` are `(n_ranges,)`."""
        return self.running_sum(plane).between(lo, hi)

    def items(
        self, plane: Plane, lo: Ints, hi: Ints
    ) -> tuple[SelectedValues | ValueLists, Ints, Ints]:
        """Return a plane of values, and the ranges of its items that ranges of cells hold.

        `lo`, `hi` and the results are `(n_ranges,)`.
        """
        tally = self.tallies[plane]
        assert isinstance(tally, SelectedValues | ValueLists)
        ends_by_plane = self._running.counts
        if plane not in ends_by_plane:
            ends_by_plane[plane] = tally.ends(self.axis.size)
        return tally, ends_by_plane[plane][lo], ends_by_plane[plane][hi]

    def first_times(self, plane: Plane, lo: Ints, hi: Ints) -> Ints:
        """Return how many values ranges of cells hold that no earlier cell of their group has.

        All arrays are `(n_ranges,)`.
        """
        tally, first, last = self.items(plane, lo, hi)
        running = self._running.firsts
        if plane not in running:
            # Cells are in the order of groups and days, so the first of a value in that order is
            # the first in time.
            group = self.axis.all_keys[tally.cell] // self.axis.days
            running[plane] = running_sums(met_first(group, tally.value).astype(np.int64))
        times: Ints = running[plane][last] - running[plane][first]
        return times

    def total(self, plane: Plane, first: int, last: int) -> int:
        """Return a plane's exact whole total over days first..last, without prefix sums."""
        tally = self.tallies[plane]
        assert isinstance(tally, Sum)
        if self.axis.keys is None:
            rows = tally.whole.reshape(self.axis.groups, self.axis.days)
            cut = slice(max(first - self.axis.first_day, 0), max(last + 1 - self.axis.first_day, 0))
            return bigint.exact_total(rows[:, cut].ravel())
        _, day = self.axis.cells_of()
        return bigint.exact_total(tally.whole[(day >= first) & (day <= last)])


def concatenate_cells(parts: Sequence[Cells]) -> Cells:
    """Return the cells of several parts, whose groups are numbered alike: from the last on, as
    many at a time as there is room for.
    """
    parts = [*parts]
    while len(parts) > 1:
        count = _count_alike(parts)
        parts[-count:] = [_at_once(parts[-count:]) if count > 2 else parts[-2].plus(parts[-1])]
    return parts[0]


def regrouped_together(parts: Sequence[Cells], targets: Sequence[Ints], count: int) -> Cells:
    """Return the cells of several parts, whose groups are renumbered first, each by its target;
    those that only hold sums are put in order just once.

    Each target is `(n_groups,) int64`.
    """
    # Values that are picked or listed move with their cells, two parts at a time.
    if not all(isinstance(tally, Sum) for part in parts for tally in part.tallies.values()):
        cells = [p.regroup(target, count) for p, target in zip(parts, targets, strict=True)]
        return concatenate_cells(cells)
    axis, onto = union_renumbered([part.axis for part in parts], targets, count)
    return _sum_parts(parts, axis, onto)


def _count_alike(parts: Sequence[Cells]) -> int:
    """Return how many of the last parts can be put together at once, two at least."""
    if not all(isinstance(tally, Sum) for part in parts for tally in part.tallies.values()):
        return 2
    sizes = np.cumsum([part.axis.size for part in reversed(parts) if part.memory])
    return max(int((sizes <= _MOST_AT_ONCE).sum()), 2)  # those on disk come before the others


def _at_once(parts: Sequence[Cells]) -> Cells:
    """Return the cells of several parts that only hold sums."""
    return _sum_parts(parts, *union_axis([part.axis for part in parts]))


def _sum_parts(parts: Sequence[Cells], axis: Axis, onto: Sequence[Ints | None]) -> Cells:
    """Each array of `onto` is `(n_cells_of_the_part,)`."""
    tallies: dict[Plane, Tally] = {}
    added: dict[tuple[int, ...], Sum] = {}
    for plane in parts[0].tallies:
        sums = [tally for part in parts if isinstance(tally := part.tallies[plane], Sum)]
        key = tuple(map(id, sums))
        if key not in added:
            added[key] = Sum.together(sums, onto, axis.size)
        tallies[plane] = added[key]
    return Cells(axis, tallies)


def _each_once(
    tallies: Mapping[Plane, Tally], work: Callable[[Tally], Tally]
) -> dict[Plane, Tally]:
    """Return what a work makes of planes, once of those that are one and the same: where every row
    has a value, those with one are the rows.
    """
    results: dict[int, Tally] = {}
    for tally in tallies.values():
        if id(tally) not in results:
            results[id(tally)] = work(tally)
    return {plane: results[id(tally)] for plane, tally in tallies.items()}


class _Running(NamedTuple):
    """Running sums and counts, by plane, that were asked for."""

    sums: dict[Plane, RunningSum]
    squares: dict[Plane, RunningSquares]
    counts: dict[Plane, Ints]
    firsts: dict[Plane, Ints]


def _join_tally(
    tally: Tally, plane: Plane, others: Mapping[Plane, Tally], apart: bool = False
) -> Tally:
    """Return a tally joined with that of the same plane among others."""
    other = others[plane]
    match tally, other:
        case Squares(), Squares():
            sums, counts = (others[Plane(what, plane.column)] for what in ("sum", "filled"))
            assert isinstance(sums, Sum) and isinstance(counts, Sum)
            return tally.plus(other.about(tally, sums, counts))
        case SelectedValues(), SelectedValues():
            return tally.plus(other, apart=apart)
        case ValueLists(), ValueLists():
            return tally.plus(other)
        case _:
            raise TypeError(f"plane {plane} is kept in two ways: {type(tally)} and {type(other)}")
