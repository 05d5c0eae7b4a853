"""Weighted moving averages: the measure of each unit of a window, weighted by its age."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from eptaro.core.column import Column
from eptaro.core.days import Ints
from eptaro.core.errors import QuestionError
from eptaro.core.facts import View
from eptaro.core.windows import OWN_UNITS, Reach, Windows


def check_weights(windows: Windows, every: str, weights: object) -> None:
    """Raise `QuestionError` where the units of a window are not those that are weighted."""
    if isinstance(weights, str) or not isinstance(weights, Iterable):
        raise QuestionError(f"weights={weights!r} must be numbers, one per unit, oldest first")
    reach = windows.back
    if reach.unit not in ("day", every) or reach.unit in OWN_UNITS:
        raise QuestionError(f"weights go with days, or with every={reach.unit!r} for {reach}")
    if windows.ahead or windows.centred or windows.closed:
        raise QuestionError("weights go with windows that reach back alone; leave out ahead, "
                            "centred and far_edge")  # fmt: skip


def weighted_mean(
    view: View, reach: Reach, every: str, weights: list[float], group: Ints, date: Ints
) -> list[Column]:
    """Return for each measure the weighted mean of its values over the units of a window.

    The sum of weight times value, divided by the sum of weights; blank where one of the
    units has no value.
    """
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
            with np.errstate(over="ignore", invalid="ignore"):
                added += weight * view.value(measure, group, first, last).numbers()
        found.append(Column.of("", "float", added / total, np.isfinite(added)))
    return found


def first_used(view: View, reach: Reach, every: str, date: Ints) -> Ints:
    """Return the first day of the oldest unit of each window."""
    return _unit(view, reach.unit, every, date, reach.n - 1)[0]


def _unit(view: View, unit: str, every: str, date: Ints, age: int) -> tuple[Ints, Ints]:
    """Return the days of the unit that lies `age` units before the date's own."""
    if unit == "day":
        return date - age, date - age
    index = view.calendar.index_of(date, every) - age
    first, last = view.calendar.first_days(index, every), view.calendar.last_days(index, every)
    return first, np.minimum(last, date) if age == 0 else last
