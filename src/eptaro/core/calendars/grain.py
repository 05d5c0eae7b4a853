"""The grain of data: the periods that its dates represent, days as a rule.

Months, quarters and years are those of the civil calendar, weeks those of ISO 8601, which begin on
a Monday. A period of the data is known by its first day.
"""

from __future__ import annotations

from typing import Literal, TypeAlias, get_args

import numpy as np

from eptaro.core.calendars.days import Days, Flags, Ints, civil_months, month_starts, weekday
from eptaro.core.calendars.span import Span
from eptaro.errors import QuestionError

_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_LONGEST = {"day": 1, "week": 7, "month": 31, "quarter": 92, "year": 366}  # days


Grain: TypeAlias = Literal["day", "week", "month", "quarter", "year"]
GRAINS: tuple[Grain, ...] = get_args(Grain)


def first_days(days: Days, grain: Grain) -> Ints:
    """Return the first day of the period that each day lies in.

    >>> first_days(np.array([40]), "month").tolist()  # 10 February 1970
    [31]
    """
    wide: Ints = days.astype(np.int64)
    if grain == "day":
        return wide
    if grain == "week":
        return wide - weekday(wide)
    months = _MONTHS[grain]
    return month_starts(civil_months(wide) // months * months)


def last_days(days: Days, grain: Grain) -> Ints:
    """Return the last day of the period that each day lies in.

    >>> last_days(np.array([40]), "quarter").tolist()  # 31 March 1970
    [89]
    """
    # So many days after its first one, the next period has begun, and not yet ended.
    return first_days(first_days(days, grain) + _LONGEST[grain], grain) - 1


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
            f"the data is dated by the {grain}, and {said} is not made of whole {grain}s: how they "
            f"spread over their days is not known. Ask by the {grain} or by periods made of whole "
            f"ones ({_MADE_OF[grain]})"
        )


_MADE_OF: dict[Grain, str] = {
    "day": "",
    "week": "years of whole weeks, which a week calendar has",
    "month": "quarters and years that begin with a month",
    "quarter": "years that begin with a quarter",
    "year": "years from January on",
}
