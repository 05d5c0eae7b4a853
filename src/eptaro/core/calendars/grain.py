"""The grain of data: the periods that its dates represent, days as a rule.

Months, quarters and years are those of the civil calendar, or of one that is named; weeks begin on
a Monday, as those of ISO 8601 do, unless another day is named. A period of the data is known by its
first day; a week that may straddle two months or years, by the day whose month or year it counts
in.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal, TypeAlias, get_args

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Days, Flags, Ints, civil_months, month_starts, weekday
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.calendars.span import Span
from eptaro.errors import QuestionError, spell_option
from eptaro.record import Record, record

_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_LONGEST = {"day": 1, "week": 7, "month": 31, "quarter": 92, "year": 366}  # days


@record
class CalendarGrain(Record):
    """Periods of a calendar that are none of the civil one: years from 1 April, months of 4-4-5."""

    calendar: Calendar
    level: str

    def __str__(self) -> str:
        return f"{self.level} of {self.calendar.name!r}"


NamedGrain: TypeAlias = Literal[
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
    "week by its last day",
    "week from Tuesday by its last day",
    "week from Wednesday by its last day",
    "week from Thursday by its last day",
    "week from Friday by its last day",
    "week from Saturday by its last day",
    "week from Sunday by its last day",
    "week by most of its days",
    "week from Tuesday by most of its days",
    "week from Wednesday by most of its days",
    "week from Thursday by most of its days",
    "week from Friday by most of its days",
    "week from Saturday by most of its days",
    "week from Sunday by most of its days",
]
Grain: TypeAlias = NamedGrain | CalendarGrain
CivilGrain: TypeAlias = Literal["day", "week", "month", "quarter", "year"]
GRAINS: tuple[NamedGrain, ...] = get_args(NamedGrain)
# By the day that they begin on, Monday first.
WEEKS: tuple[NamedGrain, ...] = ("week", *GRAINS[5:11])
_BY_LAST_DAY, _BY_MOST_DAYS = GRAINS[11:18], GRAINS[18:25]
STRADDLING: Mapping[str, tuple[NamedGrain, ...]] = {
    "last day": _BY_LAST_DAY,  # a week counts in the period that holds its last day
    "most days": _BY_MOST_DAYS,  # or most of its days, as its fourth day is
}


def grain_of(calendar: Calendar, level: str) -> Grain:
    """Return the grain that the periods of a calendar are: a civil one where they are those.

    >>> from eptaro.core.calendars.month import MonthCalendar
    >>> fiscal = MonthCalendar("fiscal", year_starts="04-01")
    >>> [str(grain_of(fiscal, level)) for level in ("month", "quarter", "year", "week")]
    ['month', 'quarter', "year of 'fiscal'", 'week']
    """
    own = CalendarGrain(calendar, level)
    if level == "week":  # whose days of a week are the same in every calendar
        begins = weekday(calendar.first_days(calendar.index_of(_DAY, level), level))
        return WEEKS[int(begins[0])]
    if level not in _MONTHS or calendar.limits is not None:
        return own
    civil = GRAINS[GRAINS.index(level)]
    same = np.array_equal(first_days(_FOUR_YEARS, own), first_days(_FOUR_YEARS, civil))
    return civil if same else own


_DAY = np.array([10_957])  # 2000-01-01
_FOUR_YEARS = _DAY[0] + np.arange(1461)


def level_of(grain: Grain) -> str:
    """Return the level that a grain is of: of weeks, whatever day they begin on, `week`."""
    if isinstance(grain, CalendarGrain):
        return grain.level
    return "week" if first_weekday(grain) is not None else grain


def coarsest(grains: Iterable[Grain]) -> Grain:
    """Return the widest of several grains.

    >>> coarsest(["day", "month", "week from Sunday"])
    'month'
    """
    return min(grains, key=lambda grain: LEVELS.index(level_of(grain)))


def first_weekday(grain: Grain) -> int | None:
    """Return the weekday that weeks begin on, 0 for Monday; None of other grains."""
    places = (weeks.index(grain) for weeks in (WEEKS, *STRADDLING.values()) if grain in weeks)
    return next(places, None)


def may_straddle(grain: Grain) -> bool:
    """Return whether a period of the data may lie in two of those asked for, and counts in one."""
    return grain in _BY_LAST_DAY or grain in _BY_MOST_DAYS


def counting_days(days: Ints, grain: Grain, counted_on: str) -> tuple[Ints, Grain]:
    """Return the days that weeks, by their first days, count on, and their grain.

    `days` has any shape.

    >>> counting_days(np.array([4]), "week", "last day")
    (array([10]), 'week by its last day')
    """
    return days + (6 if counted_on == "last day" else 3), STRADDLING[counted_on][WEEKS.index(grain)]


def plural_of(grain: Grain) -> str:
    """Return the name of several periods of a grain.

    >>> plural_of("month"), plural_of("week from Sunday")
    ('months', 'weeks from Sunday')
    """
    kind, _, more = str(grain).partition(" ")
    kind = "halve" if kind == "half" else kind
    return f"{kind}s {more}".rstrip().replace("its", "their")


def first_days(days: Days, grain: Grain) -> Ints:
    """Return the first day of the period that each day lies in.

    `days` is `(n,)`, the result `(n,) int64`.

    >>> first_days(np.array([40]), "month").tolist()  # 10 February 1970
    [31]
    """
    wide: Ints = days.astype(np.int64)
    if isinstance(grain, CalendarGrain):
        return grain.calendar.first_days(grain.calendar.index_of(wide, grain.level), grain.level)
    if grain == "day":
        return wide
    start = first_weekday(grain)
    if start is not None:
        return wide - (weekday(wide) - start) % 7
    months = _MONTHS[grain]
    return month_starts(civil_months(wide) // months * months)


def last_days(days: Days, grain: Grain) -> Ints:
    """Return the last day of the period that each day lies in.

    `days` is `(n,)`, the result `(n,) int64`.

    >>> last_days(np.array([40]), "quarter").tolist()  # 31 March 1970
    [89]
    """
    if isinstance(grain, CalendarGrain):
        index = grain.calendar.index_of(days.astype(np.int64), grain.level)
        return grain.calendar.last_days(index, grain.level)
    # So many days after its first one, the next period has begun, and not yet ended.
    return first_days(first_days(days, grain) + _LONGEST[level_of(grain)], grain) - 1


def are_whole(first: Days, last: Days, grain: Grain) -> Flags:
    """Return which spans of days are made of whole periods.

    `first` and `last` are `(n_spans,)`, the result `(n_spans,) bool`.

    >>> are_whole(np.array([0, 0]), np.array([30, 29]), "month").tolist()
    [True, False]
    """
    if may_straddle(grain):  # only of single days nothing is known
        longer: Flags = last > first
        return longer
    whole: Flags = (first_days(first, grain) == first) & (last_days(last, grain) == last)
    return whole


def last_whole(day: int, grain: Grain) -> int:
    """Return the last day of the latest period that has ended by a day."""
    end = int(last_days(np.array([day]), grain)[0])
    return day if end == day else int(first_days(np.array([day]), grain)[0]) - 1


def whole_periods_in(first: Ints, last: Ints, grain: Grain) -> tuple[Ints, Ints]:
    """Return spans of days cut to the whole periods in them; an empty one ends before it begins.

    `first`, `last` and the results are `(n_spans,) int64`.

    >>> whole_periods_in(np.array([5]), np.array([100]), "month")  # February and March 1970
    (array([31]), array([89]))
    """
    if grain == "day":
        return first, last
    begins, ends = first_days(first, grain), last_days(last, grain)
    return (
        np.where(begins < first, last_days(first, grain) + 1, first),
        np.where(ends > last, first_days(last, grain) - 1, last),
    )


def check_whole(first: Days, last: Days, grain: Grain) -> None:
    """Raise `QuestionError` for a span of days that is not made of whole periods of the data.

    `first` and `last` are `(n_spans,)`.
    """
    if grain == "day":
        return
    astray = np.flatnonzero((first <= last) & ~are_whole(first, last, grain))
    if len(astray):
        span = Span.of(int(first[astray[0]]), int(last[astray[0]]))
        dates = span.first if span.lo == span.hi else span
        rule = spell_option("week_in='last day'", "--week-in 'last day'")
        cure = f"; with {rule} a week that straddles two months or years counts in one of them"
        raise QuestionError(
            f"the data is dated by the {grain}, and {dates} is not made of whole "
            f"{plural_of(grain)}: how they spread over their days is not known. Ask by "
            f"{_made_of(grain)}{cure if level_of(grain) == 'week' else ''}"
        )


def _made_of(grain: Grain) -> str:
    """Return the periods that data of a grain can be asked by."""
    if isinstance(grain, CalendarGrain):
        wider = "" if grain.level == "year" else ", or its wider periods"
        return f"the {grain.level} of calendar {grain.calendar.name!r}{wider}"
    level = level_of(grain)
    return f"the {level} or by periods made of whole ones ({_MADE_OF[level]})"


_MADE_OF = {
    "week": "years of whole weeks, which a week calendar has",
    "month": "quarters and years that begin with a month",
    "quarter": "years that begin with a quarter",
    "year": "years from January on",
}
