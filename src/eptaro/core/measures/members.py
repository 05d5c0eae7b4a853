"""Measures on the totals of each value of a column, such as the typical booking of each month.

Two lists of every cell go side by side: whose each row is, and the value that is added up (see
`core.measures.term.Members`). The rows of a range of cells lie together; put in order by their
owners they are runs, each of which has a total. Last, the values that are new to the whole book.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.aggregation.cells import Cells, Plane
from eptaro.core.aggregation.selected import ValueLists
from eptaro.core.calendars.days import LAST_DAY, Ints
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.kernels.sorting import met_first, stable_order
from eptaro.core.measures.calculations import calculation, planes_of
from eptaro.core.measures.term import Members, Term
from eptaro.core.results.column import Column
from eptaro.errors import EptaroError

_AT_ONCE = 1 << 22  # rows that are put in order at once


def member_totals(
    cells: Cells, term: Term, lo: Ints, hi: Ints
) -> Iterator[tuple[Column, Ints, Ints]]:
    """Yield for some ranges lo..hi of cells at a time the totals of each value of a term's column,
    and where those of each range begin and end, `(n_ranges_of_the_part,)`.
    """
    assert term.members is not None
    owners, first, last = cells.items(Plane("codes", term.members.codes.name), lo, hi)
    values = _added_values(cells, term, term.members)
    if values is not None and len(values.cell) != len(owners.value):
        raise EptaroError(f"{term}: the values kept are not those of the rows that have an owner")
    ends = np.cumsum(last - first)
    start = 0
    while start < len(lo) or not start:  # some ranges at a time, as windows may hold a row often
        before = int(ends[start - 1]) if start else 0
        stop = max(int(np.searchsorted(ends, before + _AT_ONCE, side="right")), start + 1)
        some = slice(start, stop)
        yield _over_rows(term, owners.value, values, first[some], last[some])
        start = stop


def _added_values(cells: Cells, term: Term, members: Members) -> ValueLists | None:
    """Return the list of what is added up; None where rows are counted."""
    if members.values is None:
        return None
    name = members.values.name
    plane = next(p for p in planes_of(term) if p.column == name)
    lists = cells.tallies[plane]
    assert isinstance(lists, ValueLists)
    return lists


def _over_rows(
    term: Term, owners: Ints, values: ValueLists | None, first: Ints, last: Ints
) -> tuple[Column, Ints, Ints]:
    """Return the totals over runs of rows, from `first` to before `last`, and where those of each
    run begin and end.

    `owners` is `(n_rows,)`; the others are `(n_runs,)`.
    """
    counts = last - first
    run = np.repeat(np.arange(len(counts)), counts)
    at = np.arange(len(run)) + np.repeat(first - running_sums(counts)[:-1], counts)
    owner = owners[at].astype(np.int64)
    key = run * (int(owner.max(initial=0)) + 1) + owner
    order = stable_order(key)
    key, run, at = key[order], run[order], at[order]
    begins = np.flatnonzero(np.append(True, key[1:] != key[:-1])) if len(key) else key
    stops = np.append(begins[1:], len(key)) if len(key) else key
    items = Column.of("", "integer", owner)
    if values is not None:
        items = Column.of("", values.kind, values.value[at], scale=values.scale)
    (inner,) = term.parts
    totals = calculation(inner.how).over_values(items, inner, begins, stops)
    keep = ~totals.blank
    if totals.kind == "float":
        keep &= ~np.isnan(totals.numbers())
    chosen_run = run[begins][keep]
    every = np.arange(len(counts))
    lo, hi = (np.searchsorted(chosen_run, every, side=side) for side in ("left", "right"))
    return totals.take(np.flatnonzero(keep)), lo, hi


def first_days_of(cells: Cells, plane: Plane) -> Ints:
    """Return the first day of each value of a plane of codes in any group, `(n_values,) int64`."""
    tally = cells.tallies[plane]
    assert isinstance(tally, ValueLists)
    days = cells.axis.all_keys[tally.cell] % cells.axis.days + cells.axis.first_day
    days_first = np.full(int(tally.value.max(initial=-1)) + 1, LAST_DAY, np.int64)
    np.minimum.at(days_first, tally.value, days)
    return days_first


def new_to_all(cells: Cells, plane: Plane, first: Ints, lo: Ints, hi: Ints) -> Column:
    """Return how many values each range lo..hi of cells holds on the first day of all.

    A value that several groups have on that day is new in each of them. `first` is the first day
    of each value in the whole book, `lo` and `hi` are `(n_ranges,) int64`.
    """
    tally, start, stop = cells.items(plane, lo, hi)
    keys = cells.axis.all_keys[tally.cell]
    group, day = np.divmod(keys, cells.axis.days)
    fresh = met_first(group, tally.value) & (day + cells.axis.first_day == first[tally.value])
    before = running_sums(fresh.astype(np.int64))
    return Column.of("", "integer", before[stop] - before[start])
