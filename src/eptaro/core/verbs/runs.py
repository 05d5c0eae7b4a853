"""The different values of a column in runs, one per group and value of an attribute."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.dimension.recurring import RECURRING, full_name
from eptaro.core.folds.batch import CHUNK, Batch
from eptaro.core.kernels.ranges import between
from eptaro.core.questions.by_attribute import Crossed, attribute_of, places_of
from eptaro.core.questions.transactions import placed_rows
from eptaro.core.questions.view import View
from eptaro.core.tables.column import Column
from eptaro.errors import QuestionError, unknown

_ROOM = 1 << 22  # numbers to count by that are never too many


@dataclass(frozen=True, eq=False)
class Runs:
    """Different values in runs `lo`..`hi`, one per group and value of `per`, each in order.

    `before` says how many entries of all runs come before each value, and at last how many
    there are.
    """

    view: View
    crossed: Crossed
    group: Ints
    place: Ints
    values: NDArray[np.float64]
    before: Ints
    lo: Ints
    hi: Ints

    @classmethod
    def of(cls, view: View, name: str, per: str | None) -> Runs:
        """Return the values of a column, by group and value of a level or attribute."""
        crossed = Crossed.of([_of_rows(view, per)])
        group, batch = placed_rows(view)
        planes = view.facts.cells.tallies
        known = [p.column for p in planes if p.what not in ("rows", "filled", "codes")]
        if name not in known:  # of a column that is only counted, no values are read
            raise QuestionError(unknown("column of values", name, sorted(set(known))))
        run, value, entries = _counted(view, crossed, group, batch, name)
        if not len(run):
            raise QuestionError(f"{name} has no values in these days")
        numbers = value.astype(np.float64) / 10.0 ** batch.values[name].scale
        lo = np.flatnonzero(np.append(True, run[1:] != run[:-1]))
        hi, before = np.append(lo[1:], len(run)), np.append(0, np.cumsum(entries))
        own_group, place = np.divmod(run[lo], crossed.size)
        return cls(view, crossed, own_group, place, numbers, before, lo, hi)

    @property
    def count(self) -> Ints:
        """How many entries each run has."""
        return self.before[self.hi] - self.before[self.lo]

    def quantile(self, share: float) -> NDArray[np.float64]:
        """Return a quantile of each run, interpolated linearly."""
        place = share * (self.count - 1)
        below = place.astype(np.int64)
        above = np.minimum(below + 1, self.count - 1)
        low, high = self._entry(below), self._entry(above)
        return between(low, high, place - below)

    def _entry(self, number: Ints) -> NDArray[np.float64]:
        """Return the value of an entry of each run, counted from 0."""
        at = np.searchsorted(self.before, self.before[self.lo] + number, side="right") - 1
        return self.values[at]

    def places(self, limits: NDArray[np.float64], side: Literal["left", "right"]) -> Ints:
        """Return where limits, one row of them per run, come among the values of the run."""
        found = [
            start + np.searchsorted(self.values[start:stop], own, side=side)
            for start, stop, own in zip(self.lo.tolist(), self.hi.tolist(), limits, strict=True)
        ]  # a run per value of `per`, of which there are few
        return np.stack(found)

    def head(self) -> list[Column]:
        """Return the groups and the value of `per`, where there is one."""
        columns = self.view.groups.columns(self.group)
        if self.crossed.attributes[0].name:
            columns += self.crossed.columns(self.place)
        return columns


def _of_rows(view: View, per: str | None) -> Column:
    """Return what tells rows apart: an attribute, the periods of a level, or nothing."""
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    if per is None:
        return Column.text("", np.array([""]), np.zeros(len(days), np.int64))
    if per in view.calendar.levels:
        periods = view.calendar.periods(view.seen, per)
        return Column.text("period", periods.labels, periods.position_of(days))
    if per not in RECURRING:
        levels = (*view.calendar.levels, *RECURRING)
        raise QuestionError(unknown("level or attribute", per, levels))
    return attribute_of(view, full_name(per))


def _counted(
    view: View, crossed: Crossed, group: NDArray[np.int32], batch: Batch, name: str
) -> tuple[Ints, Ints, Ints]:
    """Return run, value and number of entries of each value that occurs in a run, in order.

    A value's place among all that may occur, and its run, make one number, so that counting
    needs no sorting where these numbers are not more than the rows.
    """
    column = batch.values[name]
    data, choices = column.data, None
    runs = view.groups.count * crossed.size
    if column.kind == "float" or _width(data) * runs >= 1 << 62:
        choices, data = np.unique(data, return_inverse=True)
    width, least = _width(data), int(data.min())
    counted = runs * width <= max(len(data), _ROOM)
    counts = np.zeros(runs * width if counted else 0, np.int64)
    keys = []
    for start in range(0, len(batch), CHUNK):
        rows = slice(start, start + CHUNK)
        seen, key = places_of(view, crossed, group[rows], batch.days_of(rows), width)
        if view.groups.count > 1:
            key += group[rows][seen].astype(np.int64) * (crossed.size * width)
        key += data[rows][seen]
        key -= least
        filled = column.filled(rows)
        key = key if filled is None else key[filled[seen]]
        if counted:
            np.add.at(counts, key, 1)
        else:
            keys.append(key)
    if counted:
        every = np.flatnonzero(counts)
        counts = counts[every]
    else:
        every, counts = np.unique(np.concatenate(keys), return_counts=True)
    run, value = np.divmod(every, width)
    value += least
    return run, value if choices is None else choices[value], counts


def _width(data: NDArray[Any]) -> int:
    return int(data.max()) - int(data.min()) + 1
