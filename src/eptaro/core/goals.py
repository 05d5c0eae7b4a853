"""Goal lines: what should have been reached by each day of a period, and the gap to it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Column
from eptaro.core.days import Ints
from eptaro.core.errors import QuestionError, unknown
from eptaro.core.facts import View
from eptaro.core.measures import Measure

GOAL_ENDINGS = ("_goal", "_goal_to_date", "_goal_gap", "_goal_reached")
PACES = ("straight", "prior year")
Goals = Mapping[Any, Any]


def goal_columns(
    view: View, goals: Goals, pace: str, within: str, labels: NDArray[Any], group: Ints,
    place: Ints, last: Ints, reached: Column,
) -> list[Column]:  # fmt: skip
    """Return the first measure's goal per period, its pace to date, and the gap to it.

    `goals` maps a period's label to its goal, or `(group value, label)` where the rows are
    grouped. The straight pace is goal * days elapsed / days; `prior year` follows the
    share that the prior year's period had reached at the counterpart of the day. Periods
    without a goal are blank. Raises `QuestionError` for a label of no period shown.
    """
    if pace not in PACES:
        raise QuestionError(unknown("value for pace", pace, PACES))
    if within not in view.calendar.levels:
        raise QuestionError(f"goals need whole periods; within={within!r} is none")
    measure = view.facts.measures[0]
    goal = _amounts(view, goals, labels, group, place)
    index = np.array([view.calendar.period(str(label)).index for label in labels])[place]
    first = view.calendar.first_days(index, within)
    end = view.calendar.last_days(index, within)
    if pace == "straight":
        share = (last - first + 1) / (end - first + 1)
    else:
        share = _prior_share(view, measure, within, group, index, first, last)
    to_date = goal * share
    come = reached.numbers()
    ratio = np.divide(come, to_date, out=np.full(len(goal), np.nan), where=to_date > 0)
    name = measure.name
    return [
        _column(f"{name}_goal", goal, reached, "The period's goal"),
        _column(f"{name}_goal_to_date", to_date, reached, f"The goal's {pace} pace by the day"),
        _column(f"{name}_goal_gap", come - to_date, reached,
                "To date less the pace; negative is behind"),
        replace(_column(f"{name}_goal_reached", ratio, reached, "To date / the pace"),
                format=None, unit="share"),
    ]  # fmt: skip


def _column(name: str, numbers: NDArray[np.float64], like: Column, text: str) -> Column:
    valid = ~np.isnan(numbers)
    return Column.of(name, "float", np.where(valid, numbers, 0.0), valid, description=text,
                     format=like.format)  # fmt: skip


def _amounts(
    view: View, goals: Goals, labels: NDArray[Any], group: Ints, place: Ints
) -> NDArray[np.float64]:
    names = [str(label) for label in labels]
    words: list[Any] = [None]
    if view.groups.names:
        if len(view.groups.names) != 1:
            raise QuestionError("goals go by one group column at most")
        every = np.arange(view.groups.count)
        words = [str(word) for word in view.groups.columns(every)[0].to_list()]
    table = np.full((len(words), len(names)), np.nan)
    for key, amount in goals.items():
        word, label = (str(key[0]), str(key[1])) if isinstance(key, tuple) else (None, str(key))
        if word is not None and word not in words:
            raise QuestionError(f"goals: {unknown('group', word, words)}")
        if label not in names:
            view.calendar.period(label)  # a wrong label is told as such; others lie elsewhere
            continue
        rows = range(len(words)) if word is None else [words.index(word)]
        table[list(rows), names.index(label)] = float(Decimal(str(amount)))
    picked: NDArray[np.float64] = table[group, place]
    return picked


def _prior_share(
    view: View, measure: Measure, within: str, group: Ints, index: Ints, first: Ints, last: Ints
) -> NDArray[np.float64]:
    """Return how much of the prior year's period was reached at the counterpart of each day."""
    prior, exists = view.calendar.counterparts(index, within, -1, "year")
    prior = np.where(exists, prior, index)
    begin, end = view.calendar.first_days(prior, within), view.calendar.last_days(prior, within)
    cut = np.minimum(begin + (last - first), end)
    cut = np.where(last == view.calendar.last_days(index, within), end, cut)
    whole = view.value(measure, group, begin, end).numbers()
    part = view.value(measure, group, begin, cut).numbers()
    known = exists & view.complete(begin, end) & ~np.isnan(whole) & (whole != 0)
    share: NDArray[np.float64] = np.divide(
        part, whole, out=np.full(len(whole), np.nan), where=known
    )
    return share
