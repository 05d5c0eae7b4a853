"""The rank of a measure among the groups of its period, which may be some of several shards."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels.occurring import occurring
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.view import View
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import join
from eptaro.core.tables.face import Face
from eptaro.core.verbs.recap.periods import PeriodRows


def rank_column(view: View, measure: Measure, value: Column, rows: PeriodRows) -> Column:
    """Return each value's rank, 1 for the largest: among the groups of its period, or, with one
    group, among all periods of its level. `value` goes group by group, through all rows.

    Equal values share a rank; blanks, and the groups of all others, have none.
    """
    groups, count = view.groups.count, len(rows)
    place = np.tile(np.arange(count), groups)
    ranked = np.ones(groups, bool) if view.others is None else ~view.others
    mine, at = Ladder.of(value, place, np.repeat(ranked, count), groups)
    ladder = view.of_all(f"{measure.name}_rank", mine)
    text = "among the groups of its period"
    if ladder.groups == 1:
        ladder, at = Ladder.of(value, rows.level.data, np.ones(count, bool), 1)
        mine, text = ladder, "among the periods of its level"
    ranks = np.append(ladder.ranks(mine), 0)[at]
    face = Face("rank", of=measure.name)
    name = f"{measure.name}_rank"
    return Column.of(name, "integer", ranks, at >= 0, description=f"Rank {text}", face=face)


@dataclass(frozen=True, eq=False)
class Ladder:
    """The different values of each pool in order, and how many rows have each.

    `values` are those of all pools; a rung's key is its pool times their number, and the place of
    its value among them. `groups` is of how many groups.
    """

    groups: int
    values: Column
    keys: Ints
    counts: Ints

    @classmethod
    def of(cls, value: Column, pool: Ints, ranked: Flags, groups: int) -> tuple[Ladder, Ints]:
        """Return the ladder of rows that are ranked, and the rung of each, -1 for none."""
        place = np.where(ranked, value.ranks(), -1)
        held = np.flatnonzero(place >= 0)
        values, own = _different(value, held, place[held])
        keys, rung = occurring(pool[held] * len(values) + own, len(values) * (int(pool.max()) + 1))
        counts = np.bincount(rung, minlength=len(keys))
        at = np.full(len(value), -1)
        at[held] = rung
        return cls(groups, values, keys, counts), at

    def beside(self, other: Ladder) -> Ladder:
        """Return the ladder of the rows of both."""
        values = join([self.values, other.values])
        values, place = _different(values, np.arange(len(values)), values.ranks())
        size = len(self.values)
        keys = [
            rungs._keys(own, len(values))
            for rungs, own in ((self, place[:size]), (other, place[size:]))
        ]
        most = max((int(own[-1]) for own in keys if len(own)), default=-1)
        found, at = occurring(np.concatenate(keys), most + 1)
        counts = np.zeros(len(found), np.int64)
        counts[at[: len(keys[0])]] = self.counts
        counts[at[len(keys[0]) :]] += other.counts
        return Ladder(self.groups + other.groups, values, found, counts)

    def ranks(self, some: Ladder) -> Ints:
        """Return the rank of each rung of a ladder whose rungs are all on this one."""
        before = np.append(0, np.cumsum(self.counts))
        width = max(len(self.values), 1)
        if some is self:
            at = np.arange(len(self.keys))
        else:
            at = np.searchsorted(self.keys, some._keys(self._places(some.values), width))
        pool = self.keys[at] // width
        end = np.searchsorted(self.keys, (pool + 1) * width)
        ranks: Ints = before[end] - before[at + 1] + 1
        return ranks

    def _keys(self, places: Ints, width: int) -> Ints:
        """Return the keys of the rungs where values stand at other places of so many."""
        pool, own = np.divmod(self.keys, max(len(self.values), 1))
        keys: Ints = pool * width + places[own]
        return keys

    def _places(self, values: Column) -> Ints:
        """Return where values that all stand here do."""
        mine, theirs = self.values, join([self.values.take(slice(0, 0)), values])
        return np.searchsorted(_plain(mine), _plain(theirs))


def _different(column: Column, rows: Ints, ranks: Ints) -> tuple[Column, Ints]:
    """Return the different values of some rows in order, and the place of each row's among them."""
    met, place = occurring(ranks, int(ranks.max(initial=-1)) + 1)
    first = np.zeros(len(met), np.int64)
    first[place] = rows
    return replace(column.take(first), valid=None), np.asarray(place, np.int64)


def _plain(column: Column) -> NDArray[Any]:
    """Return values as they compare."""
    if column.kind != "text":
        return column.data
    return np.array([str(word) for word in column.to_list()])
