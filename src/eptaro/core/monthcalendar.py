"""`MonthCalendar`: years of twelve months that all start on the same day of the month."""

from __future__ import annotations

import re

import numpy as np

from eptaro.core.calendar import Calendar
from eptaro.core.days import Days, Flags, Ints, add_months, civil_months, month_starts
from eptaro.core.errors import CalendarError, unknown
from eptaro.core.levels import check_level, check_weekday

_PER_YEAR = {"year": 1, "half": 2, "quarter": 4, "month": 12}
_CIVIL_EPOCH = 1970 * 12  # civil months from year 0 to 1970-01


class MonthCalendar(Calendar):
    """Calendar and fiscal years of twelve months.

    A year starts on `year_starts` (month-day, day 1 to 28) and runs to the day before
    the next; its months start on that day of each of 12 months, quarters are 3 months
    and halves 6. `year_named="end"` calls a year after the civil year of its last day,
    `"start"` after that of its first.

    Weeks are whole 7-day weeks from `week_starts`; one that straddles two years belongs
    to the later when at least `first_week_days` of its days fall in that later year
    (monday and 4: ISO 8601-1:2019, 4.3.1; sunday and 1: the week holding the year's
    first day is week 1; monday and 7: the first full week is).

    Raises `CalendarError` for a start day after the 28th, or any other bad argument.

    >>> fiscal = MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    >>> fiscal.period_of("2025-08-20", "quarter")
    Period('FY2026-Q2', quarter, 2025-07-01..2025-09-30)
    """

    def __init__(
        self,
        name: str = "calendar",
        *,
        year_starts: str = "01-01",
        year_named: str = "end",
        week_starts: str = "monday",
        first_week_days: int = 4,
        prefix: str = "",
    ) -> None:
        self._set_names(name, prefix)
        self.year_starts, (self._month, self._day) = year_starts, _month_day(year_starts)
        if year_named not in ("start", "end"):
            raise CalendarError(unknown("value for year_named", year_named, ("start", "end")))
        self.year_named = year_named
        self.week_starts, self._weekday = week_starts, check_weekday(week_starts, "week_starts")
        if isinstance(first_week_days, bool) or first_week_days not in range(1, 8):
            raise CalendarError(f"first_week_days={first_week_days!r} must be 1 to 7")
        self.first_week_days = int(first_week_days)
        # A year from 01-01 ends in the civil year it starts in: both namings agree.
        self._named_later = int(year_named == "end" and (self._month, self._day) != (1, 1))

    def _definition(self) -> tuple[object, ...]:
        return (
            *(self.name, self.prefix, self._month, self._day, self._named_later),
            *(self._weekday, self.first_week_days),
        )

    def describe(self) -> str:
        """Return the definition in words.

        >>> MonthCalendar("fiscal", year_starts="04-01").describe()
        'fiscal: years from 04-01, named for their end, ISO 8601 weeks'
        """
        named = "" if (self._month, self._day) == (1, 1) else f", named for their {self.year_named}"
        weeks = "ISO 8601 weeks"
        if (self._weekday, self.first_week_days) != (0, 4):
            weeks = f"weeks from {self.week_starts.title()}"
            weeks += f", week 1 with {self.first_week_days} days or more in the year"
        return f"{self.name}: years from {self.year_starts}{named}, {weeks}"

    def __repr__(self) -> str:
        return (
            f"MonthCalendar({self.name!r}, year_starts={self.year_starts!r}, "
            f"year_named={self.year_named!r}, week_starts={self.week_starts!r}, "
            f"first_week_days={self.first_week_days}, prefix={self.prefix!r})"
        )

    @property
    def plain_months(self) -> bool:
        """Whether months are written 2025-03: years from 01-01 without a prefix."""
        return not self.prefix and (self._month, self._day) == (1, 1)

    # Month index: named year * 12 + month - 1; the other levels divide it.

    def index_of(self, days: Days, level: str) -> Ints:
        """Return the index of the period of `level` that holds each day ordinal."""
        check_level(level)
        if level == "day":
            return days.astype(np.int64)
        if level == "week":
            return (days.astype(np.int64) - self._week_zero) // 7
        months: Ints = civil_months(days)
        months -= (days - month_starts(months)) < self._day - 1
        months += _CIVIL_EPOCH - (self._month - 1) + 12 * self._named_later
        return months // (12 // _PER_YEAR[level])

    def first_days(self, index: Ints, level: str) -> Ints:
        """Return the first day of each period."""
        check_level(level)
        if level == "day":
            return index
        if level == "week":
            return index * 7 + self._week_zero
        months = index * (12 // _PER_YEAR[level])
        months = months - (_CIVIL_EPOCH - (self._month - 1) + 12 * self._named_later)
        return month_starts(months) + (self._day - 1)

    def numbers(self, index: Ints, level: str) -> tuple[Ints, Ints]:
        """Return the year that each period belongs to and its number in it, from 1."""
        if level == "day":
            years = self.index_of(index, "year")
            return years, index - self.first_days(years, "year") + 1
        if level == "week":
            pivot = self.first_days(index, "week") + (7 - self.first_week_days)
            years = self.index_of(pivot, "year")
            return years, index - self._first_weeks(years) + 1
        per = _PER_YEAR[level]
        return index // per, index % per + 1

    def index_at(self, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
        """Return the index of each numbered period and whether there is such a one."""
        if level == "week":
            index = self._first_weeks(years) + numbers - 1
            return index, (numbers >= 1) & (index < self._first_weeks(years + 1))
        if level == "day":
            index = self.first_days(years, "year") + numbers - 1
            return index, (numbers >= 1) & (index < self.first_days(years + 1, "year"))
        per = _PER_YEAR[level]
        return years * per + numbers - 1, (numbers >= 1) & (numbers <= per)

    def units(self, level: str, step: str) -> int | None:
        """Return how many periods of `level` make one `step`, or None where that varies."""
        if level == step:
            return 1
        if level not in _PER_YEAR or step not in _PER_YEAR:
            return None
        units, rest = divmod(_PER_YEAR[level], _PER_YEAR[step])
        return units if units and not rest else None

    def move_days(self, days: Days, n: int, level: str) -> tuple[Ints, Flags]:
        """Move day ordinals: days and weeks as days, the rest by civil months, clamped."""
        check_level(level)
        if level in ("day", "week"):
            moved = days.astype(np.int64) + n * (7 if level == "week" else 1)
            return moved, np.zeros(np.shape(days), bool)
        return add_months(days, n * (12 // _PER_YEAR[level]))

    @property
    def _week_zero(self) -> int:
        """A day ordinal on which a week starts (1970-01-05 was a Monday)."""
        return 4 + self._weekday

    def _first_weeks(self, years: Ints) -> Ints:
        """Return the index of week 1 of each year: the week holding its n-th day."""
        return self.index_of(self.first_days(years, "year") + self.first_week_days - 1, "week")


def _month_day(text: str) -> tuple[int, int]:
    found = re.fullmatch(r"(\d{2})-(\d{2})", text) if isinstance(text, str) else None
    if not found or not 1 <= int(found[1]) <= 12 or int(found[2]) < 1:
        raise CalendarError(f"year_starts={text!r} is not a month-day; write it as 04-01")
    if int(found[2]) > 28:
        raise CalendarError(
            f"year_starts={text!r}: a year can start on day 1 to 28, because not every month "
            f"has a day {int(found[2])}"
        )
    return int(found[1]), int(found[2])
