"""The grain of data: the periods that its dates represent, days as a rule.

Months, quarters and years are those of the civil calendar; weeks begin on a Monday, as those of ISO
8601 do, unless another day is named. A period of the data is known by its first day.
"""

from __future__ import annotations

from typing import Literal, TypeAlias, get_args

import numpy as np

from eptaro.core.calendars.days import Days, Flags, Ints, civil_months, month_starts, weekday
from eptaro.core.calendars.span import Span
from eptaro.errors import QuestionError

_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_LONGEST = {"day": 1, "week": 7, "month": 31, "quarter": 92, "year": 366}  # days


Grain: TypeAlias = Literal[
    "day",
    "week",
    "month",
    "quarter",
    "year",
    "week from Tuesday",
    "week from Wednesday",
    "week from Thursday",
    "week from Friday",
    "week from Saturday",
    "week from Sunday",
]
CivilGrain: TypeAlias = Literal["day", "week", "month", "quarter", "year"]
GRAINS: tuple[Grain, ...] = get_args(Grain)
WEEKS: tuple[Grain, ...] = ("week", *GRAINS[5:])  # by the day that they begin on, Monday the first


def level_of(grain: Grain) -> Grain:
    """Return the level that a grain is of: of weeks, whatever day they begin on, `week`."""
    return "week" if grain in WEEKS else grain


def plural_of(grain: Grain) -> str:
    """Return the name of several periods of a grain.

    >>> plural_of("month"), plural_of("week from Sunday")
    ('months', 'weeks from Sunday')
    """
    kind, _, day = grain.partition(" from ")
    return f"{kind}s" + (f" from {day.title()}" if day else "")


def first_days(days: Days, grain: Grain) -> Ints:
    """Return the first day of the period that each day lies in.

    >>> first_days(np.array([40]), "month").tolist()  # 10 February 1970
    [31]
    """
    wide: Ints = days.astype(np.int64)
    if grain == "day":
        return wide
    if grain in WEEKS:
        return wide - (weekday(wide) - WEEKS.index(grain)) % 7
    months = _MONTHS[grain]
    return month_starts(civil_months(wide) // months * months)


def last_days(days: Days, grain: Grain) -> Ints:
    """Return the last day of the period that each day lies in.

    >>> last_days(np.array([40]), "quarter").tolist()  # 31 March 1970
    [89]
    """
    # So many days after its first one, the next period has begun, and not yet ended.
    return first_days(first_days(days, grain) + _LONGEST[level_of(grain)], grain) - 1


def are_whole(first: Days, last: Days, grain: Grain) -> Flags:
    """Return which spans of days are made of whole periods.

    >>> are_whole(np.array([0, 0]), np.array([30, 29]), "month").tolist()
    [True, False]
    """
    whole: Flags = (first_days(first, grain) == first) & (last_days(last, grain) == last)
    return whole


def last_whole(day: int, grain: Grain) -> int:
    """Return the last day of the latest period that has ended by a day."""
    end = int(last_days(np.array([day]), grain)[0])
    return day if end == day else int(first_days(np.array([day]), grain)[0]) - 1


def check_whole(first: Days, last: Days, grain: Grain) -> None:
    """Raise `QuestionError` for a span of days that is not made of whole periods of the data."""
    if grain == "day":
        return
    astray = np.flatnonzero((first <= last) & ~are_whole(first, last, grain))
    if len(astray):
        span = Span.of(int(first[astray[0]]), int(last[astray[0]]))
        said = span.first if span.lo == span.hi else span
        raise QuestionError(
            f"the data is dated by the {grain}, and {said} is not made of whole "
            f"{plural_of(grain)}: how they spread over their days is not known. Ask by the "
            f"{level_of(grain)} or by periods made of whole ones ({_MADE_OF[level_of(grain)]})"
        )


_MADE_OF: dict[Grain, str] = {
    "day": "",
    "week": "years of whole weeks, which a week calendar has",
    "month": "quarters and years that begin with a month",
    "quarter": "years that begin with a quarter",
    "year": "years from January on",
}
