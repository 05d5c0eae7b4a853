"""`WeekCalendar`: years of 52 or 53 whole weeks, cut into months of 4 and 5 weeks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints, civil_date, month_starts, weekday
from eptaro.core.calendars.equalparts import EqualPartsCalendar
from eptaro.core.calendars.levels import (
    WEEKDAYS,
    Names,
    Weekday,
    YearEnds,
    YearNamed,
    check_choice,
    parse_month_day,
)
from eptaro.errors import CalendarError

_CIVIL_EPOCH = 1970


_SHORTEST = (31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)  # days that a month may name


class WeekCalendar(EqualPartsCalendar):
    """52/53-week years.

    The year ends on the weekday before `week_starts` that is `ends="nearest"` to the
    month-day `year_ends`, or `ends="last"`: on or before it (`year_ends="02-29"` means
    the last day of February). `pattern` gives the weeks of each quarter's months, such
    as 4-4-5, or is 13x4: 13 months of 4 weeks in quarters of 3, 3, 3 and 4. The 53rd week
    goes to month `long_month`, by default the last.

    `year_named` goes by the nominal days, so a year that ends on 2 January 2021 near
    12-31 is 2020. All levels nest. `week_starts="monday", year_ends="12-31"` has the
    weeks of ISO 8601.

    Parameters
    ----------
    name : str
        What it is called; it begins column names.
    pattern : str
        Weeks of a quarter's months, such as `4-4-5`, or `13x4`.
    week_starts : str
        First day of the week, in lower case.
    year_ends : str
        Month-day near which years end; `02-29` is the last of February.
    ends : {"nearest", "last"}
        Nearest to that day, or on or before it.
    year_named : {"end", "start"}
        Which nominal end gives a year its name.
    long_month : int, optional
        The month that week 53 goes to, by default the last.
    prefix : str
        What labels begin with.
    shown : mapping of str to str, optional
        What is shown for the periods of a level, as of `MonthCalendar`.

    Raises
    ------
    CalendarError
        For a pattern that does not make 52 weeks, or any other bad argument.

    Examples
    --------
    >>> cafe = WeekCalendar("cafe", pattern="4-4-5", week_starts="sunday", year_ends="01-31")
    >>> cafe.period_of("2025-08-20", "month")
    Period('FY2026-M07', month, 2025-08-03..2025-08-30)
    >>> cafe.period_of("2024-02-03", "week")
    Period('FY2024-W53', week, 2024-01-28..2024-02-03)
    """

    def __init__(
        self,
        name: str,
        *,
        pattern: str = "4-4-5",
        week_starts: Weekday = "sunday",
        year_ends: str = "01-31",
        ends: YearEnds = "nearest",
        year_named: YearNamed = "end",
        long_month: int | None = None,
        prefix: str = "FY",
        shown: Mapping[str, str] | None = None,
    ) -> None:
        self._set_names(name, prefix)
        self.pattern, weeks = pattern, _parse_pattern(pattern)
        self._set_weeks(week_starts, 7)
        self.year_ends, (self._month, self._day) = year_ends, _year_end(year_ends)
        self.ends = check_choice("ends", ends, ("nearest", "last"))
        self.year_named = check_choice("year_named", year_named, ("start", "end"))
        count = len(weeks)
        self.long_month = count if long_month is None else long_month
        if isinstance(long_month, bool) or self.long_month not in range(1, count + 1):
            raise CalendarError(f"long_month={long_month!r} must be a month from 1 to {count}")
        self.per_year = {"year": 1, "half": 2, "quarter": 4, "month": count}
        # Rows 0 and 1: weeks before each month in a year of 52 and of 53.
        long = np.array(weeks) + (np.arange(1, count + 1) == self.long_month)
        self._before = np.stack([np.cumsum([0, *weeks]), np.cumsum([0, *long])])
        self._month_of_week = np.stack(
            [np.searchsorted(before, np.arange(53), side="right") - 1 for before in self._before]
        )
        # The first month (from 0) of each quarter and half, and one past the last.
        quarters = np.array([0, 3, 6, 9, count])
        self._opens = {"quarter": quarters, "half": quarters[::2], "year": quarters[::4]}
        self._named_later = int(year_named == "start" and (self._month, self._day) != (12, 31))
        self._set_shown(shown)

    def _definition(self) -> tuple[object, ...]:
        return (
            *(self.name, self.prefix, self.pattern, self._weekday, self._month, self._day),
            *(self.ends, self._named_later, self.long_month),
        )

    def describe(self) -> str:
        """Return the definition in words.

        Examples
        --------
        >>> WeekCalendar("shops").describe().partition(",")[0]
        'shops: 4-4-5 weeks'
        """
        last = WEEKDAYS[self._weekday - 1].title()
        near = "nearest to" if self.ends == "nearest" else "on or before"
        end = Names().month_day(self._month, self._day)
        return (
            f"{self.name}: {self.pattern} weeks, years to the {last} {near} {end}, "
            f"named for their {self.year_named}, week 53 in month {self.long_month}"
        )

    def settings(self) -> dict[str, Any]:
        """Return the kind and arguments, from which the calendar can be recreated.

        Examples
        --------
        >>> WeekCalendar("shops", pattern="4-5-4").settings()["pattern"]
        '4-5-4'
        """
        names = (
            "name",
            "pattern",
            "week_starts",
            "year_ends",
            "ends",
            "year_named",
            "long_month",
            "prefix",
        )
        return self._settings("week", **{name: getattr(self, name) for name in names})

    def __repr__(self) -> str:
        return (
            f"WeekCalendar({self.name!r}, pattern={self.pattern!r}, "
            f"week_starts={self.week_starts!r}, year_ends={self.year_ends!r}, "
            f"ends={self.ends!r}, year_named={self.year_named!r}, "
            f"long_month={self.long_month}, prefix={self.prefix!r})"
        )

    def weeks_in(self, years: Ints) -> Ints:
        """Return 52 or 53 for each year, as named.

        Parameters
        ----------
        years : int array of shape (n,)
            Years, as named.

        Returns
        -------
        int array of shape (n,)
            52 or 53 for each.

        Examples
        --------
        >>> WeekCalendar("shops").weeks_in(np.array([2024, 2025])).tolist()
        [53, 52]
        """
        weeks: Ints = (self._year_firsts(years + 1) - self._year_firsts(years)) // 7
        return weeks

    # Years are counted by the civil year of their nominal last day, named later or not.

    def _year_lasts(self, civil_years: Ints) -> Ints:
        """Return the last day of the years whose nominal last day lies in the civil years.

        `civil_years` and the days have one shape.
        """
        months = (civil_years - _CIVIL_EPOCH) * 12 + self._month - 1
        room = month_starts(months + 1) - month_starts(months)
        nominal = month_starts(months) + np.minimum(self._day, room) - 1
        after = (weekday(nominal) - (self._weekday - 1)) % 7  # days since the closing weekday
        later = (after > 3) & (self.ends == "nearest")
        lasts: Ints = nominal - after + 7 * later
        return lasts

    def _year_firsts(self, years: Ints) -> Ints:
        """Return the first day of each year, as named; `years` has any shape."""
        return self._year_lasts(years + self._named_later - 1) + 1

    def _wide_index(self, days: Ints, level: str) -> Ints:
        years = civil_date(days)[0] - 1
        for _ in range(3):  # the year's last day lies within a week of the nominal one
            years += self._year_lasts(years) < days
        years -= self._named_later
        if level == "year":
            return years
        firsts = self._year_firsts(years)
        long = self.weeks_in(years) - 52
        months = self._month_of_week[long, (days - firsts) // 7]
        if level != "month":
            months = np.searchsorted(self._opens[level], months, side="right") - 1
        index: Ints = years * self.per_year[level] + months
        return index

    def _wide_first(self, index: Ints, level: str) -> Ints:
        years, place = np.divmod(index, self.per_year[level])
        firsts = self._year_firsts(years)
        if level == "year":
            return firsts
        long = self.weeks_in(years) - 52
        months = place if level == "month" else self._opens[level][place]
        opens: Ints = firsts + 7 * self._before[long, months]
        return opens

    def _move_wide(self, days: Ints, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Keep each day's place within its period of `level`, clamped to the target's end."""
        index = self._wide_index(days, level)
        place = days - self._wide_first(index, level)
        opens = self._wide_first(index + n, level)
        room = self._wide_first(index + n + 1, level) - opens - 1
        return opens + np.minimum(place, room), place > room


def _parse_pattern(pattern: str) -> NDArray[np.int64]:
    if pattern == "13x4":
        return np.full(13, 4)
    if not isinstance(pattern, str) or not re.fullmatch(r"[1-9]-[1-9]-[1-9]", pattern):
        raise CalendarError(
            f"pattern={pattern!r} is not the weeks of a quarter's three months; "
            f"write it as 4-4-5, 4-5-4, 5-4-4 or 13x4"
        )
    weeks = [int(part) for part in pattern.split("-")]
    if sum(weeks) != 13:
        raise CalendarError(
            f"pattern={pattern!r} makes {4 * sum(weeks)} weeks a year, not 52; "
            f"use 4-4-5, 4-5-4, 5-4-4 or 13x4"
        )
    return np.array(weeks * 4)


def _year_end(text: str) -> tuple[int, int]:
    month, day = parse_month_day(text, "year_ends")
    if day > _SHORTEST[month - 1]:
        raise CalendarError(f"year_ends={text!r} does not exist in the calendar")
    return month, day
