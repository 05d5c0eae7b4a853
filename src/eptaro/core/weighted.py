"""Weighted moving averages: the measure of each unit of a window, weighted by its age."""

from __future__ import annotations

import numpy as np

from eptaro.core.column import Column
from eptaro.core.days import Ints
from eptaro.core.errors import QuestionError
from eptaro.core.facts import View
from eptaro.core.windows import Reach


def weighted_mean(
    view: View, reach: Reach, every: str, weights: list[float], group: Ints, date: Ints
) -> list[Column]:
    """Return for each measure the weighted mean of its values over the units of a window.

    The sum of weight times value, divided by the sum of weights; blank where one of the
    units has no value.
    """
    if reach.unit not in ("day", every):
        raise QuestionError(f"weights go with days, or with every={reach.unit!r} for {reach}")
    if len(weights) != reach.n:
        raise QuestionError(f"{len(weights)} weights for {reach}; give one per unit, oldest first")
    total = float(np.sum(weights))
    if not np.isfinite(total) or total == 0:
        raise QuestionError("the weights add up to nothing; give numbers with a sum")
    found = []
    for measure in view.facts.measures:
        added = np.zeros(len(group))
        for age, weight in zip(range(reach.n - 1, -1, -1), weights, strict=True):
            first, last = _unit(view, reach.unit, every, date, age)
            added += weight * view.value(measure, group, first, last).numbers()
        found.append(Column.of("", "float", added / total, ~np.isnan(added)))
    return found


def _unit(view: View, unit: str, every: str, date: Ints, age: int) -> tuple[Ints, Ints]:
    """Return the days of the unit that lies `age` units before the date's own."""
    if unit == "day":
        return date - age, date - age
    index = view.calendar.index_of(date, every) - age
    first, last = view.calendar.first_days(index, every), view.calendar.last_days(index, every)
    return first, np.minimum(last, date) if age == 0 else last
