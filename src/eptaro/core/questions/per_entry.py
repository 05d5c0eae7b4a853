"""Row-level answers: one per transaction, gathered from the cells of its group and day."""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.days import Days, Ints
from eptaro.core.folds.axis import MOST_DENSE
from eptaro.core.questions.answer import Answered, Side
from eptaro.core.questions.query import Query
from eptaro.core.questions.transactions import placed_rows
from eptaro.core.questions.view import View
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.deferred import AnyColumn, taken
from eptaro.core.tables.face import COMPLETE, DATE, FIRST, LAST, Face, Rank
from eptaro.core.tables.table import Table

LABEL = "What the value is of"


_WHOLE = "Whether all its days lie in the coverage"


def per_entry(
    view: View, side: Side, ending: str, label: Column, asked: Query, *, whole: bool = False
) -> Table:
    """Return for each transaction the measures over the span that goes with its day.

    `side` and `label` hold one span and one label per day of `view.seen`. Columns: `row`
    (place in the input, from 1), the groups, `date`, the label, `first`, `last`,
    `complete`, and `NAME` + `ending` per measure, of `whole` spans alone where that is asked.
    These numbers have no trace.
    """
    group, batch = placed_rows(view)
    seen, day = view.seen, batch.days
    rows = np.arange(1, len(batch) + 1) if batch.places is None else batch.places + 1
    if len(rows) and rows[-1] <= np.iinfo(np.int32).max:  # half the room
        rows = rows.astype(np.int32)
    if group.min() < 0 or batch.days.min() < seen.lo or batch.days.max() > seen.hi:
        kept = (group >= 0) & (batch.days >= seen.lo) & (batch.days <= seen.hi)
        group, day, rows = group[kept], day[kept], rows[kept]
    day = day - np.int32(seen.lo)
    cell_group, cell_day, at = _cells(group, day, view.groups.count, seen.days)
    on, of = day.astype(np.intp), group.astype(np.intp)  # once, for all the gathers below
    first, last = np.asarray(side.first), np.asarray(side.last)
    days = [
        dates("date", np.arange(seen.lo, seen.hi + 1), None, "The transaction's day", DATE),
        label,
        dates("first", first, None, "First day of the value", FIRST),
        dates("last", last, None, "Last day of the value", LAST),
    ]
    whole_of = view.complete(first[on], last[on], of)
    columns: list[AnyColumn] = [
        Column.of(
            "row",
            "integer",
            rows,
            unit="number",
            description="Place in the input",
            face=Face("row", Rank.KEY),
        ),
        *view.groups.later(of),
        *taken(days, on),
        Column.of("complete", "flag", whole_of, description=_WHOLE, face=COMPLETE),
    ]
    for measure in view.facts.measures:
        value = view.value(measure, cell_group, first[cell_day], last[cell_day])
        if whole:
            value = value.blanked(view.complete(first[cell_day], last[cell_day], cell_group))
        columns += taken([value.named(f"{measure.name}{ending}")], at)
    answer = Answered(asked, view, of, {}, np.arange(len(rows)))
    return Table(columns, view.meta(asked.verb) | {"every": "entry"}, answer)


def _cells(group: Days, day: Days, groups: int, width: int) -> tuple[Ints, Ints, Ints]:
    """Return group and day of the cells that transactions lie in, and the place of each row's."""
    if groups * width <= MOST_DENSE:
        cell_group, cell_day = np.divmod(np.arange(groups * width), width)
        at = group.astype(np.intp)
        at *= width
        at += day
        return cell_group, cell_day, at
    keys, at = np.unique(group.astype(np.int64) * width + day, return_inverse=True)
    cell_group, cell_day = np.divmod(keys, width)
    return cell_group, cell_day, at
