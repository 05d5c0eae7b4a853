"""Columns beside a recap's measures: shares, ranks and running shares."""

from __future__ import annotations

import numpy as np

from eptaro.core.column import Column
from eptaro.core.days import Flags, Ints
from eptaro.core.measures import Measure


def share_columns(
    measure: Measure, value: Column, group: Ints, place: Ints, parts: Flags, parent: Ints
) -> list[Column]:
    """Return a measure's share of all rows, its running share, and, where there are several
    groups, its share of its period, and where there are subtotals, of its parent.

    `group` and `place` tell each row's group (in runs) and period, `parts` which rows are
    parts rather than totals, `parent` the row of the next wider subtotal, -1 for none. Only
    measures that add up have shares: others give no column.
    """
    if measure.additive_plane is None:
        return []
    numbers = np.nan_to_num(value.numbers())
    counted = np.where(parts, numbers, 0.0)
    per_period = np.bincount(place, weights=numbers)
    per_group = np.bincount(group, weights=counted)
    before = np.concatenate([[0.0], np.cumsum(per_group)])[group]
    name, size = measure.name, len(numbers)
    found = [
        _share(f"{name}_share", numbers, np.full(size, counted.sum()), "of all rows"),
        _share(f"{name}_running_share", np.cumsum(counted) - before, per_group[group],
               "of the group so far"),
    ]  # fmt: skip
    if len(per_group) > 1:
        of_period = _share(f"{name}_share_of_period", numbers, per_period[place], "of all groups")
        found.insert(1, of_period)
    if (parent >= 0).any():
        whole = np.where(parent >= 0, numbers[parent], 0.0)
        found.append(_share(f"{name}_share_of_parent", numbers, whole, "of the wider period"))
    return found


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
