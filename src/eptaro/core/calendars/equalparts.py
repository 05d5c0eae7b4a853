"""`EqualPartsCalendar`: calendars whose years all have the same number of halves to months.

A period of these levels has the index year * periods per year + number - 1. Weeks are
whole 7-day weeks; which year one belongs to goes by how many of its days lie in it.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Days, Flags, Ints
from eptaro.core.calendars.levels import Weekday, check_level, check_weekday
from eptaro.errors import CalendarError


class EqualPartsCalendar(Calendar):
    """What `MonthCalendar` and `WeekCalendar` share: numbering, and weeks."""

    per_year: Mapping[str, int] = {"year": 1, "half": 2, "quarter": 4, "month": 12}
    week_starts: Weekday
    first_week_days: int

    def _set_weeks(self, week_starts: Weekday, first_week_days: int) -> None:
        self.week_starts, self._weekday = week_starts, check_weekday(week_starts, "week_starts")
        if isinstance(first_week_days, bool) or first_week_days not in range(1, 8):
            raise CalendarError(f"first_week_days={first_week_days!r} must be 1 to 7")
        self.first_week_days = int(first_week_days)
        self._week_zero = 4 + self._weekday  # a week starts here (1970-01-05 was a Monday)

    @abstractmethod
    def _wide_index(self, days: Ints, level: str) -> Ints:
        """Return the index of the year to month that holds each day.

        `days` and the indexes have one shape.
        """

    @abstractmethod
    def _wide_first(self, index: Ints, level: str) -> Ints:
        """Return the first day of each year to month. `index` and the days have one shape."""

    @abstractmethod
    def _move_wide(self, days: Ints, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Move days by years to months; flag those clamped. All arrays have one shape."""

    def index_of(self, days: Days, level: str) -> Ints:
        """Return the index of the period of `level` that holds each day ordinal."""
        check_level(level)
        whole: Ints = days.astype(np.int64)
        if level == "day":
            return whole
        if level == "week":
            return (whole - self._week_zero) // 7
        return self._wide_index(whole, level)

    def first_days(self, index: Ints, level: str) -> Ints:
        """Return the first day of each period."""
        check_level(level)
        if level == "day":
            return index
        if level == "week":
            return index * 7 + self._week_zero
        return self._wide_first(index, level)

    def numbers(self, index: Ints, level: str) -> tuple[Ints, Ints]:
        """Return the year that each period belongs to and its number in it, from 1."""
        if level == "day":
            years = self.index_of(index, "year")
            return years, index - self.first_days(years, "year") + 1
        if level == "week":
            pivot = self.first_days(index, "week") + (7 - self.first_week_days)
            years = self.index_of(pivot, "year")
            return years, index - self._first_weeks(years) + 1
        per = self.per_year[level]
        return index // per, index % per + 1

    def index_at(self, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
        """Return the index of each numbered period and whether there is such a one."""
        if level == "week":
            index = self._first_weeks(years) + numbers - 1
            return index, (numbers >= 1) & (index < self._first_weeks(years + 1))
        if level == "day":
            index = self.first_days(years, "year") + numbers - 1
            return index, (numbers >= 1) & (index < self.first_days(years + 1, "year"))
        per = self.per_year[level]
        return years * per + numbers - 1, (numbers >= 1) & (numbers <= per)

    def move_days(self, days: Days, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Move day ordinals by `n` units of `level`; flag those clamped to a period's end."""
        check_level(level)
        whole: Ints = days.astype(np.int64)
        if level in ("day", "week"):
            moved: Ints = whole + n * (7 if level == "week" else 1)
            return moved, np.zeros(np.shape(days), bool)
        return self._move_wide(whole, n, level)

    def units(self, level: str, step: str) -> int | None:
        """Return how many periods of `level` make one `step`, or None where that varies."""
        if level == step:
            return 1
        if level not in self.per_year or step not in self.per_year:
            return None
        units, rest = divmod(self.per_year[level], self.per_year[step])
        return units if units and not rest else None

    def _first_weeks(self, years: Ints) -> Ints:
        """Return the index of week 1 of each year: the week holding its n-th day.

        `years` and the indexes have one shape.
        """
        return self.index_of(self.first_days(years, "year") + self.first_week_days - 1, "week")
