"""`MonthCalendar`: years of twelve months that all start on the same day of the month."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from eptaro.core.calendars.days import Flags, Ints, add_months, civil_months, month_starts
from eptaro.core.calendars.equalparts import EqualPartsCalendar
from eptaro.core.calendars.levels import Names, Weekday, YearNamed, check_choice, parse_month_day
from eptaro.errors import CalendarError

_CIVIL_EPOCH = 1970 * 12  # civil months from year 0 to 1970-01


class MonthCalendar(EqualPartsCalendar):
    """Calendar and fiscal years of twelve months.

    A year starts on `year_starts` (month-day, day 1 to 28) and runs to the day before
    the next; its months start on that day of each of 12 months, quarters are 3 months
    and halves 6. `year_named="end"` calls a year after the civil year of its last day,
    `"start"` after that of its first.

    Weeks are whole 7-day weeks from `week_starts`; one that straddles two years belongs
    to the later when at least `first_week_days` of its days fall in that later year
    (monday and 4: ISO 8601-1:2019, 4.3.1; sunday and 1: the week holding the year's
    first day is week 1; monday and 7: the first full week is).

    Parameters
    ----------
    name : str
        What it is called; it begins column names.
    year_starts : str
        Month-day on which years start, day 1 to 28.
    year_named : {"end", "start"}
        Which end gives a year its name.
    week_starts : str
        First day of the week, in lower case.
    first_week_days : int
        Days, 1 to 7, that a year's first week needs in it.
    prefix : str
        What labels begin with, such as `FY`.
    shown : mapping of str to str, optional
        What is shown for the periods of a level, as `{"month": "{month_short} {year}"}`; labels
        in files stay. Fields: `label`, `prefix`, `year`, `start`, `end`, `number`, `month_name`,
        `month_short`, `first`, `last`; with two digits `year_short`, `start_short`, `end_short`.

    Raises
    ------
    CalendarError
        For a start day after the 28th, or any other bad argument.

    Examples
    --------
    >>> fiscal = MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    >>> fiscal.period_of("2025-08-20", "quarter")
    Period('FY2026-Q2', quarter, 2025-07-01..2025-09-30)
    """

    def __init__(
        self,
        name: str = "calendar",
        *,
        year_starts: str = "01-01",
        year_named: YearNamed = "end",
        week_starts: Weekday = "monday",
        first_week_days: int = 4,
        prefix: str = "",
        shown: Mapping[str, str] | None = None,
    ) -> None:
        self._set_names(name, prefix)
        self.year_starts, (self._month, self._day) = year_starts, _month_day(year_starts)
        self.year_named = check_choice("year_named", year_named, ("start", "end"))
        self._set_weeks(week_starts, first_week_days)
        # A year from 01-01 ends in the civil year it starts in: both namings agree.
        self._named_later = int(year_named == "end" and (self._month, self._day) != (1, 1))
        self._set_shown(shown)

    def _definition(self) -> tuple[object, ...]:
        return (
            *(self.name, self.prefix, self._month, self._day, self._named_later),
            *(self._weekday, self.first_week_days),
        )

    def describe(self) -> str:
        """Return the definition in words.

        >>> MonthCalendar("fiscal", year_starts="04-01").describe()
        'fiscal: years from 1 April, named for their end, ISO 8601 weeks'
        """
        names = "" if (self._month, self._day) == (1, 1) else f", named for their {self.year_named}"
        weeks = "ISO 8601 weeks"
        if (self._weekday, self.first_week_days) != (0, 4):
            weeks = f"weeks from {self.week_starts.title()}"
            weeks += f", week 1 with {self.first_week_days} days or more in the year"
        first = Names().month_day(self._month, self._day)
        return f"{self.name}: years from {first}{names}, {weeks}"

    def settings(self) -> dict[str, Any]:
        """Return the kind and arguments, from which the calendar can be recreated.

        Examples
        --------
        >>> MonthCalendar("fiscal", year_starts="04-01").settings()["year_starts"]
        '04-01'
        """
        names = ("name", "year_starts", "year_named", "week_starts", "first_week_days", "prefix")
        return self._settings("month", **{name: getattr(self, name) for name in names})

    def __repr__(self) -> str:
        return (
            f"MonthCalendar({self.name!r}, year_starts={self.year_starts!r}, "
            f"year_named={self.year_named!r}, week_starts={self.week_starts!r}, "
            f"first_week_days={self.first_week_days}, prefix={self.prefix!r})"
        )

    @property
    def plain_months(self) -> bool:
        """Whether months are written 2025-03: years from 1 January without a prefix."""
        return not self.prefix and (self._month, self._day) == (1, 1)

    @property
    def days_keep_numbers(self) -> bool:
        """A day keeps its number in the civil month."""
        return True

    # Month index: named year * 12 + month - 1; the wider levels divide it.

    def _wide_index(self, days: Ints, level: str) -> Ints:
        months = civil_months(days)
        months -= (days - month_starts(months)) < self._day - 1
        months += _CIVIL_EPOCH - (self._month - 1) + 12 * self._named_later
        return months // (12 // self.per_year[level])

    def _wide_first(self, index: Ints, level: str) -> Ints:
        months = index * (12 // self.per_year[level])
        months = months - (_CIVIL_EPOCH - (self._month - 1) + 12 * self._named_later)
        return month_starts(months) + (self._day - 1)

    def _move_wide(self, days: Ints, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        return add_months(days, n * (12 // self.per_year[level]))


def _month_day(text: str) -> tuple[int, int]:
    month, day = parse_month_day(text, "year_starts")
    if day > 28:
        raise CalendarError(
            f"year_starts={text!r}: a year can start on day 1 to 28, because not "
            "every month "
            f"has a day {day}"
        )
    return month, day
