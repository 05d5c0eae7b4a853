"""Columns beside a recap's measures: shares, ranks and running shares."""

from __future__ import annotations

import numpy as np

from eptaro.core.column import Column
from eptaro.core.days import Flags, Ints
from eptaro.core.measures import Measure


def share_columns(
    measure: Measure, value: Column, group: Ints, place: Ints, parts: Flags
) -> list[Column]:
    """Return a measure's share of its period, of all, and its running share.

    `group` and `place` tell each row's group and period; `parts` which rows are parts
    rather than totals. Only measures that add up have shares: others give no column.
    """
    if measure.additive_plane is None:
        return []
    numbers = np.where(np.isnan(value.numbers()), 0.0, value.numbers())
    counted = np.where(parts, numbers, 0.0)
    whole = counted.sum()
    per_period = np.zeros(place.max(initial=-1) + 1)
    np.add.at(per_period, place, counted)
    running = np.zeros(len(numbers))
    for one in np.unique(group):  # a loop over groups, not rows
        own = group == one
        total = counted[own].sum()
        running[own] = np.cumsum(counted[own]) / total if total else np.nan
    name = measure.name
    return [
        _share(f"{name}_share", numbers, np.full(len(numbers), whole), "of all rows"),
        _share(
            f"{name}_share_of_period", numbers, per_period[place], "of all groups in the period"
        ),
        _share(f"{name}_running_share", running, np.ones(len(numbers)), "of the group so far"),
    ]


def _share(name: str, part: np.ndarray, whole: np.ndarray, text: str) -> Column:
    valid = (whole != 0) & ~np.isnan(part)
    share = np.divide(part, whole, out=np.zeros(len(part)), where=valid)
    return Column.of(name, "float", share, valid, unit="share", description=f"Share {text}")


def rank_column(measure: Measure, value: Column, group: Ints, place: Ints, level: Ints) -> Column:
    """Return each row's rank, 1 for the largest: among the groups of its period, or, with
    one group, among all periods of its level. Equal values share a rank.
    """
    alone = len(np.unique(group)) == 1
    pool = level if alone else place
    numbers = value.numbers()
    filled = ~np.isnan(numbers)
    order = np.lexsort((-np.where(filled, numbers, -np.inf), pool))
    ordered, pools = numbers[order], pool[order]
    starts = np.append(True, pools[1:] != pools[:-1])
    fresh = starts | np.append(True, ordered[1:] != ordered[:-1])
    position = np.arange(len(order)) - np.maximum.accumulate(
        np.where(starts, np.arange(len(order)), 0)
    )
    ranks = np.empty(len(order), np.int64)
    held = np.maximum.accumulate(np.where(fresh, np.arange(len(order)), 0))
    ranks[order] = position[held] + 1
    text = "among the periods of its level" if alone else "among the groups of its period"
    return Column.of(f"{measure.name}_rank", "integer", ranks, filled, description=f"Rank {text}")
