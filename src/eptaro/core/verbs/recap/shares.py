"""Columns beside a recap's measures: shares, running shares and indexes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.view import View
from eptaro.core.questions.whole import Sums
from eptaro.core.tables.column import Column
from eptaro.core.tables.face import Face
from eptaro.core.tables.table import Table
from eptaro.core.verbs.recap.periods import PeriodRows

Numbers = NDArray[np.float64]


@np.errstate(over="ignore", invalid="ignore")  # what is not finite has no share
def share_columns(
    view: View, measure: Measure, value: Column, rows: PeriodRows, group: Ints, place: Ints
) -> list[Column]:
    """Return a measure's share of all rows, and, where there are several groups, its share of
    its period, and where there are subtotals, of its parent: the next wider one.

    `group` and `place` tell each value's group (in runs) and period. Only measures that add up
    have shares: others give no column.
    """
    if measure.additive_plane is None:
        return []
    name, count = measure.name, len(rows)
    sums = view.of_all(f"{name}_share", Sums.of(view.groups.count, value, place, count))
    numbers = value.numbers()
    whole = np.full(len(numbers), sums.total(rows.parts))
    found = [share(f"{name}_share", numbers, whole, "of all rows", name)]
    if sums.groups > 1:
        own, text = sums.numbers()[place], "of all groups"
        column = share(f"{name}_share_of_period", numbers, own, text, name, "share of period")
        found.append(column)
    parent = rows.parents()[place]
    if (parent >= 0).any():
        above = np.nan_to_num(numbers)[np.maximum(parent, 0) + group * count]
        whole = np.where(parent >= 0, above, 0.0)
        text, words = "of the wider period", "share of parent"
        found.append(share(f"{name}_share_of_parent", numbers, whole, text, name, words))
    return found


def with_running_shares(
    table: Table, measures: Sequence[Measure], parts: Flags, order: Ints
) -> Table:
    """Return a table with the running share of each measure that has a share, beside it: what
    share of all rows those shown so far have in an order, totals not counted again.
    """
    found = {}
    for measure in measures:
        if f"{measure.name}_share" in table:
            numbers = np.nan_to_num(table.column(measure.name).numbers())
            own = _running(measure, np.where(parts, numbers, 0.0), order)
            found[f"{measure.name}_share"] = own
    return table.beside(found)


@np.errstate(over="ignore", invalid="ignore")
def _running(measure: Measure, counted: Numbers, order: Ints) -> Column:
    so_far = np.empty(len(counted))
    so_far[order] = np.cumsum(counted[order])
    whole, text = np.full(len(counted), counted.sum()), "of the rows shown so far"
    return share(running_name(measure), so_far, whole, text, measure.name, "running share")


def running_name(measure: Measure) -> str:
    """Return what the column of a measure's running share is called."""
    return f"{measure.name}_running_share"


def share(
    name: str, part: Numbers, whole: NDArray[Any], text: str, of: str, words: str = "share"
) -> Column:
    """Return what part something is of a whole, blank where it is blank or the whole is 0."""
    part, whole = np.broadcast_arrays(part, whole)
    valid = ~np.isnan(part) & (whole != 0) & np.isfinite(part) & np.isfinite(whole)
    with np.errstate(over="ignore"):
        share = np.divide(part, whole, out=np.zeros(len(part)), where=valid)
    valid &= np.isfinite(share)
    said = f"share {text}"
    face = Face(words, of=of, drawn=True)
    return Column.of(
        name, "float", share, valid, unit="share", description=said.capitalize(), face=face
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
    if view.own is not None:
        own = view.complete_of_all(rows.first, rows.last)[:]
        complete = complete & np.asarray(own).reshape(numbers.shape)
    valid = complete & rows.parts & complete[:, base : base + 1] & np.isfinite(numbers)
    valid = valid & np.isfinite(whole) & (whole != 0)
    found = np.divide(100.0 * numbers, whole, out=np.zeros(numbers.shape), where=valid)
    valid &= np.isfinite(found)
    label = rows.labels.to_list()[base]
    text = f"{measure.name} where that of {label} is 100"
    return Column.of(
        f"{measure.name}_index",
        "float",
        found.ravel(),
        valid.ravel(),
        description=text,
        face=Face(f"{label} = 100", of=measure.name),
    )
