"""Dates that stand for periods: which a text names, and days that are said to stand for some."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Flags, Ints, civil_months, month_starts, weekday
from eptaro.core.calendars.grain import Grain, first_days, last_days
from eptaro.rules.dates import DateRules

_GRAIN_OF_PART: dict[str, Grain] = {"d": "day", "q": "quarter", "k": "week", "m": "month"}
_ROUNDED = 0.05  # of a month: what is lost where decimal years have two digits


def grain_of(parts: set[str], rules: DateRules) -> Grain:
    """Return the grain of what a form with these parts matches; see `forms`."""
    if "F" in parts:
        return rules.grain or "month"
    named = {"m" if part == "b" else part for part in parts}
    return next((grain for part, grain in _GRAIN_OF_PART.items() if part in named), "year")


def month_at(part: NDArray[np.float64]) -> Ints:
    """Return the month, from 1, that holds a part of the year.

    >>> month_at(np.array([0, 0.083, 0.5, 0.99])).tolist()
    [1, 2, 7, 12]
    """
    found: Ints = np.minimum(np.floor(part * 12 + _ROUNDED), 11).astype(np.int64) + 1
    return found


def mondays(year: Ints, week: Ints) -> tuple[Ints, Flags]:
    """Return the Mondays of ISO weeks, and which exist: a year has 52 weeks or 53.

    The first is the one with the year's first Thursday (ISO 8601).

    >>> days, exist = mondays(np.array([2020, 2021]), np.array([53, 53]))
    >>> days.tolist(), exist.tolist()
    ([18624, 18995], [True, False])
    """
    inside = (year >= 1) & (year <= 9999)
    fourth = month_starts(np.where(inside, year - 1970, 0) * 12) + 3
    monday = fourth - weekday(fourth) + 7 * (week - 1)
    return monday, inside & (week >= 1) & (civil_months(monday + 3) // 12 + 1970 == year)


def standing_for(days: Days, grain: Grain) -> tuple[Ints, Flags]:
    """Return the first days of the periods that days stand for, and which stand for none.

    A day stands for a period as its first or its last one. The last of a week stands for
    none, as a Sunday begins the week elsewhere.
    """
    first = first_days(days, grain)
    stands = first == days
    if grain != "week":
        stands |= last_days(days, grain) == days
    return first, ~stands


def reason_for(grain: Grain) -> str:
    """Return why a day stands for no period."""
    if grain == "week":
        return "is no Monday, with which a week begins (grain=week)"
    return f"is neither the first nor the last day of a {grain} (grain={grain})"
