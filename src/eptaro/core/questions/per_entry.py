"""Row-level answers: one per transaction, gathered from the cells of its group and day."""

from __future__ import annotations

from typing import Any

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.axis import MOST_DENSE
from eptaro.core.questions.transactions import placed_rows
from eptaro.core.questions.view import View
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.table import Table


def per_entry(
    view: View, first: Ints, last: Ints, suffix: str, labels: Any, heading: str, verb: str
) -> Table:
    """Return for each transaction the measures over the span that goes with its day.

    `first` and `last` hold one span per day of `view.seen`, `labels` one label. Columns:
    `row` (place in the input, from 1), the groups, `date`, the label under `heading`,
    `first`, `last`, `complete`, and `NAME` + `suffix` per measure.
    """
    place, batch = placed_rows(view)
    seen = view.seen
    group, day = place, batch.days
    rows = np.arange(1, len(batch) + 1, dtype=np.int32)
    if place.min() < 0 or batch.days.min() < seen.lo or batch.days.max() > seen.hi:
        kept = (place >= 0) & (batch.days >= seen.lo) & (batch.days <= seen.hi)
        group, day, rows = group[kept], day[kept], rows[kept]
    day = day - np.int32(seen.lo)
    width, groups = seen.days, view.groups.count
    if groups * width <= MOST_DENSE:
        cell_group, cell_day = np.divmod(np.arange(groups * width), width)
        at = group.astype(np.intp)
        at *= width
        at += day
    else:
        keys, at = np.unique(group.astype(np.int64) * width + day, return_inverse=True)
        cell_group, cell_day = np.divmod(keys, width)
    on = day.astype(np.intp)  # once, for all the gathers below
    columns = [
        Column.of("row", "integer", rows, unit="number", description="Place in the input"),
        *view.groups.columns(group.astype(np.intp)),
        dates("date", day + np.int32(seen.lo), description="The transaction's day"),
        Column.text(heading, labels, day, description="What the value is of"),
        dates("first", first.astype(np.int32)[on], description="First day of the value"),
        dates("last", last.astype(np.int32)[on], description="Last day of the value"),
        Column.of(
            "complete",
            "flag",
            view.complete(first, last)[on],
            description="Whether all its days lie in the coverage",
        ),
    ]
    for measure in view.facts.measures:
        value = view.value(measure, cell_group, first[cell_day], last[cell_day])
        columns.append(value.take(at).named(f"{measure.name}{suffix}"))
    return Table(columns, view.meta(verb) | {"every": "entry"})
