"""Shares, indexes and ranks of the rows of a recap."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.factorize import factorize
from eptaro.core.measures.measure import Measure
from eptaro.core.query.totals import GroupTotals
from eptaro.core.query.view import View
from eptaro.core.results.column import Column, join_columns
from eptaro.core.results.format import DisplayHint
from eptaro.core.results.result import Result
from eptaro.core.verbs.periods import PeriodRows
from eptaro.record import record

Amounts = NDArray[np.float64]


@np.errstate(over="ignore", invalid="ignore")  # what is not finite has no share
def share_columns(
    view: View, measure: Measure, value: Column, rows: PeriodRows, group: Ints, place: Ints
) -> list[Column]:
    """Return a measure's share of all rows, and, where there are several groups, its share of
    its period, and where there are subtotals, of its parent: the next wider one.

    `group` and `place`, `(n_rows,) int64`, are each value's group (in runs) and period. Only
    measures that add up have shares: others give no column.
    """
    if measure.additive_plane is None:
        return []
    name, count = measure.name, len(rows)
    sums = view.global_value(
        f"{name}_share", GroupTotals.of(view.groups.count, value, place, count)
    )
    numbers = value.numbers()
    whole = np.full(len(numbers), sums.total(rows.parts))
    columns = [share_column(f"{name}_share", numbers, whole, "of all rows", name)]
    if sums.groups > 1:
        own, text = sums.numbers()[place], "of all groups"
        column = share_column(
            f"{name}_share_of_period", numbers, own, text, name, "share of period"
        )
        columns.append(column)
    parent = rows.parents()[place]
    if (parent >= 0).any():
        above = np.nan_to_num(numbers)[np.maximum(parent, 0) + group * count]
        whole = np.where(parent >= 0, above, 0.0)
        text, words = "of the wider period", "share of parent"
        columns.append(share_column(f"{name}_share_of_parent", numbers, whole, text, name, words))
    return columns


def with_running_shares(
    table: Result, measures: Sequence[Measure], parts: Flags, order: Ints | None
) -> Result:
    """Return a table with the running share of each measure that has a share, beside it: what
    share of all rows those shown so far have in an order (None: theirs), totals not counted again.

    `parts` is `(n_rows,) bool`, `order` `(n_rows,) int64`.
    """
    shares = {}
    for measure in measures:
        if f"{measure.name}_share" in table:
            own = _running(measure, table.column(measure.name), parts, order)
            shares[f"{measure.name}_share"] = own
    return table.insert_after(shares)


@np.errstate(over="ignore", invalid="ignore")
def _running(measure: Measure, value: Column, parts: Flags, order: Ints | None) -> Column:
    """Return the running share of the values of some rows in an order, 1 at its end.

    `parts` and `order` are `(n_rows,)`.
    """
    kept = np.where(parts & ~value.blank, value.data, 0)
    # Added up in whole units, unless they are floats: 80% of all is reached where it should be.
    amounts = np.nan_to_num(kept) if value.kind == "float" else bigint.added_up(kept)
    at = np.arange(len(amounts)) if order is None else order
    so_far = np.empty(len(amounts))
    so_far[at] = bigint.to_floats(np.cumsum(amounts[at]))
    whole, text = so_far[at[-1:]], "of the rows shown so far"
    return share_column(running_name(measure), so_far, whole, text, measure.name, "running share")


def running_name(measure: Measure) -> str:
    """Return what the column of a measure's running share is called."""
    return f"{measure.name}_running_share"


def share_column(
    name: str, part: Amounts, whole: NDArray[Any], text: str, of: str, words: str = "share"
) -> Column:
    """Return what part something is of a whole, blank where it is blank or the whole is 0.

    `part` and `whole` are `(n_rows,) float64`.
    """
    part, whole = np.broadcast_arrays(part, whole)
    valid = ~np.isnan(part) & (whole != 0) & np.isfinite(part) & np.isfinite(whole)
    with np.errstate(over="ignore"):
        share = np.divide(part, whole, out=np.zeros(len(part)), where=valid)
    valid &= np.isfinite(share)
    description = f"share {text}"
    face = DisplayHint(words, of=of, drawn=True)
    return Column.of(
        name, "float", share, valid, unit="share", description=description.capitalize(), face=face
    )


@np.errstate(over="ignore", invalid="ignore")
def index_column(
    view: View, measure: Measure, value: Column, rows: PeriodRows, base: int
) -> Column:
    """Return a measure in hundredths of its value in the base row, for each group in a run.

    Blank where the base is 0 or blank, and unless both periods are complete, for the group too: a
    part-finished one is never set against a whole one.
    """
    numbers = value.numbers().reshape(-1, len(rows.first))
    whole = numbers[:, base : base + 1]
    complete = np.broadcast_to(rows.complete, numbers.shape)
    if view.covers_by_group:
        own = view.complete_of_all(rows.first, rows.last)[:]
        complete = complete & np.asarray(own).reshape(numbers.shape)
    valid = complete & rows.parts & complete[:, base : base + 1] & np.isfinite(numbers)
    valid = valid & np.isfinite(whole) & (whole != 0)
    indexes = np.divide(100.0 * numbers, whole, out=np.zeros(numbers.shape), where=valid)
    valid &= np.isfinite(indexes)
    label = rows.labels.to_list()[base]
    text = f"{measure.name} where that of {label} is 100"
    return Column.of(
        f"{measure.name}_index",
        "float",
        indexes.ravel(),
        valid.ravel(),
        description=text,
        face=DisplayHint(f"{label} = 100", of=measure.name),
    )


def rank_column(view: View, measure: Measure, value: Column, rows: PeriodRows) -> Column:
    """Return each value's rank, 1 for the largest: among the groups of its period, or, with one
    group, among all periods of its level. `value` goes group by group, through all rows.

    Equal values share a rank; blanks, and the groups of all others, have none.
    """
    groups, count = view.groups.count, len(rows)
    place = np.tile(np.arange(count), groups)
    ranked = np.ones(groups, bool) if view.others is None else ~view.others
    mine, at = RankTable.of(value, place, np.repeat(ranked, count), groups)
    table = view.global_value(f"{measure.name}_rank", mine)
    text = "among the groups of its period"
    if table.groups == 1:
        table, at = RankTable.of(value, rows.level.data, np.ones(count, bool), 1)
        mine, text = table, "among the periods of its level"
    ranks = np.append(table.ranks(mine), 0)[at]
    face = DisplayHint("rank", of=measure.name)
    name = f"{measure.name}_rank"
    return Column.of(name, "integer", ranks, at >= 0, description=f"Rank {text}", face=face)


@record
class RankTable:
    """The different values of each pool in order, and how many rows have each.

    `values` are those of all pools; the key of an entry is its pool times their number, plus the
    place of its value among them. `groups` is of how many groups.
    """

    groups: int
    values: Column
    keys: Ints
    counts: Ints

    @classmethod
    def of(cls, value: Column, pool: Ints, ranked: Flags, groups: int) -> tuple[RankTable, Ints]:
        """Return the table of the rows that are ranked, and the entry of each row, -1 for none.

        `pool`, `ranked` and the entries are `(n_rows,)`.
        """
        place = np.where(ranked, value.ranks(), -1)
        rows = np.flatnonzero(place >= 0)
        values, own = _distinct_values(value, rows, place[rows])
        keys, entry = factorize(pool[rows] * len(values) + own, len(values) * (int(pool.max()) + 1))
        counts = np.bincount(entry, minlength=len(keys))
        at = np.full(len(value), -1)
        at[rows] = entry
        return cls(groups, values, keys, counts), at

    def combine(self, other: RankTable) -> RankTable:
        """Return the table of the rows of both."""
        values = join_columns([self.values, other.values])
        values, place = _distinct_values(values, np.arange(len(values)), values.ranks())
        size = len(self.values)
        keys = [
            table._keys(own, len(values))
            for table, own in ((self, place[:size]), (other, place[size:]))
        ]
        most = max((int(own[-1]) for own in keys if len(own)), default=-1)
        unique, at = factorize(np.concatenate(keys), most + 1)
        counts = np.zeros(len(unique), np.int64)
        counts[at[: len(keys[0])]] = self.counts
        counts[at[len(keys[0]) :]] += other.counts
        return RankTable(self.groups + other.groups, values, unique, counts)

    def ranks(self, some: RankTable) -> Ints:
        """Return the rank of each entry of a table whose entries are all in this one."""
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
        """Return the keys of the entries where values are at other places of so many.

        `places` is `(n_values,)`, the keys are `(n_entries,)`.
        """
        pool, own = np.divmod(self.keys, max(len(self.values), 1))
        keys: Ints = pool * width + places[own]
        return keys

    def _places(self, values: Column) -> Ints:
        """Return where values that all are here do."""
        mine, theirs = self.values, join_columns([self.values.take(slice(0, 0)), values])
        return np.searchsorted(_comparable_values(mine), _comparable_values(theirs))


def _distinct_values(column: Column, rows: Ints, ranks: Ints) -> tuple[Column, Ints]:
    """Return the different values of some rows in order, and the place of each row's among them.

    `rows`, `ranks` and the places are `(n,)`.
    """
    met, place = factorize(ranks, int(ranks.max(initial=-1)) + 1)
    first = np.zeros(len(met), np.int64)
    first[place] = rows
    return replace(column.take(first), valid=None), np.asarray(place, np.int64)


def _comparable_values(column: Column) -> NDArray[Any]:
    """Return values as they compare."""
    if column.kind != "text":
        return column.data
    return np.array([str(word) for word in column.to_list()])
