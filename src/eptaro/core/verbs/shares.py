"""Columns beside a recap's measures: shares, ranks, running shares and indexes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.measures.measure import Measure
from eptaro.core.tables.column import Column
from eptaro.core.tables.face import Face
from eptaro.core.verbs.periods import PeriodRows

Numbers = NDArray[np.float64]


@np.errstate(over="ignore", invalid="ignore")  # what is not finite has no share
def share_columns(
    measure: Measure, value: Column, group: Ints, place: Ints, parts: Flags, parent: Ints
) -> list[Column]:
    """Return a measure's share of all rows, and, where there are several groups, its share of
    its period, and where there are subtotals, of its parent.

    `group` and `place` tell each row's group (in runs) and period, `parts` which rows are
    parts rather than totals, `parent` the row of the next wider subtotal, -1 for none. Only
    measures that add up have shares: others give no column.
    """
    if measure.additive_plane is None:
        return []
    numbers = np.nan_to_num(value.numbers())
    counted = np.where(parts, numbers, 0.0)
    per_period = np.bincount(place, weights=numbers)
    name, size = measure.name, len(numbers)
    found = [share(f"{name}_share", numbers, np.full(size, counted.sum()), "of all rows", name)]
    if int(group.max(initial=0)) > 0:
        of_period = share(
            f"{name}_share_of_period",
            numbers,
            per_period[place],
            "of all groups",
            name,
            "share of period",
        )
        found.append(of_period)
    if (parent >= 0).any():
        whole = np.where(parent >= 0, numbers[parent], 0.0)
        found.append(
            share(
                f"{name}_share_of_parent",
                numbers,
                whole,
                "of the wider period",
                name,
                "share of parent",
            )
        )
    return found


@np.errstate(over="ignore", invalid="ignore")
def running_share(measure: Measure, value: Column, parts: Flags, order: Ints) -> Column | None:
    """Return what share of all rows those shown so far have, totals not counted again, in an
    order of the rows; None for a measure that does not add up.
    """
    if measure.additive_plane is None:
        return None
    counted = np.where(parts, np.nan_to_num(value.numbers()), 0.0)
    so_far = np.empty(len(counted))
    so_far[order] = np.cumsum(counted[order])
    whole = np.full(len(counted), counted.sum())
    return share(
        f"{measure.name}_running_share",
        so_far,
        whole,
        "of the rows shown so far",
        measure.name,
        "running share",
    )


def share(
    name: str, part: Numbers, whole: NDArray[Any], text: str, of: str, words: str = "share"
) -> Column:
    """Return what part something is of a whole, blank where the whole is 0."""
    part, whole = np.broadcast_arrays(np.nan_to_num(part), whole)
    valid = (whole != 0) & np.isfinite(part) & np.isfinite(whole)
    with np.errstate(over="ignore"):
        share = np.divide(part, whole, out=np.zeros(len(part)), where=valid)
    valid &= np.isfinite(share)
    said = f"share {text}"
    face = Face(words, of=of, drawn=True)
    return Column.of(
        name, "float", share, valid, unit="share", description=said.capitalize(), face=face
    )


def rank_column(
    measure: Measure, value: Column, group: Ints, place: Ints, level: Ints, ranked: Flags
) -> Column:
    """Return each row's rank, 1 for the largest: among the groups of its period, or, with
    one group, among all periods of its level. Equal values share a rank; rows that are not
    `ranked`, as those of the group of all others, have none.
    """
    alone = len(np.unique(group)) == 1
    pool = level if alone else place
    size = value.ranks()
    size = np.where(ranked, size, -1)
    filled = size >= 0
    order = np.lexsort((-size, pool))
    ordered, pools = size[order], pool[order]
    starts = np.append(True, pools[1:] != pools[:-1])
    fresh = starts | np.append(True, ordered[1:] != ordered[:-1])
    position = np.arange(len(order)) - np.maximum.accumulate(
        np.where(starts, np.arange(len(order)), 0)
    )
    ranks = np.empty(len(order), np.int64)
    held = np.maximum.accumulate(np.where(fresh, np.arange(len(order)), 0))
    ranks[order] = position[held] + 1
    text = "among the periods of its level" if alone else "among the groups of its period"
    return Column.of(
        f"{measure.name}_rank",
        "integer",
        ranks,
        filled,
        description=f"Rank {text}",
        face=Face("rank", of=measure.name),
    )


@np.errstate(over="ignore", invalid="ignore")
def index_column(measure: Measure, value: Column, rows: PeriodRows, base: int) -> Column:
    """Return a measure in hundredths of its value in the base row, for each group in a run.

    Blank where the base is 0 or blank, and unless both periods are complete: a part-finished one
    is never set against a whole one.
    """
    numbers = value.numbers().reshape(-1, len(rows.first))
    whole = numbers[:, base : base + 1]
    valid = rows.complete & rows.parts & rows.complete[base] & np.isfinite(numbers)
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
