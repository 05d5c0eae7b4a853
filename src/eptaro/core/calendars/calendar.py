"""`Calendar`: every calendar's face: periods by label and by date, grids, moved dates and spans."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import (
    FIRST_DAY,
    LAST_DAY,
    DateLike,
    Days,
    Ints,
    as_date,
    as_dates,
    ordinal,
    ordinals,
)
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.period import Period, PeriodGrid, Periods
from eptaro.core.calendars.rule import LETTERS, CalendarRule
from eptaro.core.calendars.span import Moved, Span
from eptaro.errors import CalendarError, DateError

_LABEL = re.compile(r"(\d{4})(?:-(?:([HQMW])(\d{1,2})|(\d{2})))?")


class Calendar(CalendarRule):
    """The rule that cuts days into years, halves, quarters, months and weeks.

    `MonthCalendar`, `WeekCalendar` and `ListedCalendar` are the kinds that there are.
    """

    def period(self, label: str) -> Period:
        """Return the period with a label.

        Parameters
        ----------
        label : str
            A label such as `FY2026-Q2`.

        Returns
        -------
        Period
            The period that has it.

        Raises
        ------
        CalendarError
            Where this calendar has no such label.
        """
        text = str(label).strip()
        if re.fullmatch(r"\d{4}-\d{2}-\d{2}", text):
            return Period(self, "day", ordinal(text))
        body = text.removeprefix(self.prefix)
        found = _LABEL.fullmatch(body)
        if not found or (self.prefix and body == text):
            raise self._no_label(label)
        year = int(found[1])
        level = {letter: level for level, letter in LETTERS.items()}.get(found[2] or "", "year")
        if found[4]:
            level = "month"
        number = int(found[3] or found[4] or 1)
        if level not in self.levels or bool(found[4]) > self.plain_months:
            raise self._no_label(label)
        index, exists = self.index_at(np.array([year]), np.array([number]), level)
        if not exists[0]:
            raise CalendarError(f"calendar {self.name!r} has no {level} {label}")
        return Period(self, level, int(index[0]))

    def _no_label(self, label: str) -> CalendarError:
        day = self.limits.first if self.limits else dt.date(2025, 4, 1)
        forms = [self.period_of(day, level).label for level in self.levels if level != "day"]
        return CalendarError(
            f"{label!r} is not a label of calendar {self.name!r}; its labels look like "
            f"{', '.join(forms)}"
        )

    def period_of(self, day: DateLike, level: str) -> Period:
        """Return the period of `level` that holds a date.

        Parameters
        ----------
        day : date
            A date, or its ISO text.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Period
            The period that holds it.
        """
        check_level(level, self.levels)
        return Period(self, level, int(self.index_of(np.array([ordinal(day)]), level)[0]))

    def span_to_date(self, as_of: DateLike, level: str) -> Span:
        """Return the days of the period that holds a date, up to that date.

        Parameters
        ----------
        as_of : date
            A date, or its ISO text.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Span
            From the first day of its period to the date.
        """
        return Span(self.period_of(as_of, level).first, as_of)

    def periods(self, span: Span, level: str) -> Periods:
        """Return all periods of `level` that share a day with the span, in time order.

        Parameters
        ----------
        span : Span
            The days.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Periods
            All periods that share a day with them, in time order.
        """
        check_level(level, self.levels)
        ends = self.index_of(np.array([span.lo, span.hi]), level)
        return Periods(self, level, np.arange(ends[0], ends[1] + 1))

    def grid(self, span: Span) -> PeriodGrid:
        """Return the calendar evaluated densely over a span.

        Parameters
        ----------
        span : Span
            The days.

        Returns
        -------
        PeriodGrid
            The period of every day, at every level.
        """
        return PeriodGrid(span, {level: self.periods(span, level) for level in self.levels})

    def shift(
        self, days: DateLike | Sequence[DateLike] | NDArray[Any], n: int, level: str
    ) -> dt.date | NDArray[np.datetime64]:
        """Return dates moved by `n` units of `level`: one `date`, or a datetime64[D] array.

        A day whose place does not exist in the target month or period is clamped to
        its end. Raises `DateError` outside the years 1 to 9999.

        Parameters
        ----------
        days : date, or array of dates
            What to move.
        n : int
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        date or datetime64[D] array
            The dates moved, clamped where their place does not exist.

        Raises
        ------
        DateError
            Outside the years 1 to 9999.
        """
        check_level(level, self.levels)
        if isinstance(days, str | dt.date | np.datetime64):
            moved, _ = self.move_days(np.array([ordinal(days)]), n, level)
            return as_date(int(moved[0]))
        moved, _ = self.move_days(ordinals(days), n, level)
        return as_dates(check_range(moved))

    def move_spans(self, first: Days, last: Days, n: int | Ints, level: str) -> Moved:
        """Move spans by `n` units of `level`: whole months stay whole, others move as days.

        Parameters
        ----------
        first, last : int array
            The ends of the spans, as day ordinals.
        n : int or int array
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Moved
            The ends moved, and which last days were cut short.
        """
        check_level(level, self.levels)
        begins, _ = self.move_days(first, n, level)
        ends, clamped = self.move_days(last, n, level)
        unit = self._unit_kept(level)
        if unit is not None:
            from_index, to_index = self.index_of(first, unit), self.index_of(last, unit)
            whole = (self.first_days(from_index, unit) == first) & (
                self.last_days(to_index, unit) == last
            )
            low, found_low = self.counterparts(from_index, unit, n, level)
            high, found_high = self.counterparts(to_index, unit, n, level)
            whole &= found_low & found_high
            begins = np.where(whole, self.first_days(low, unit), begins)
            ends = np.where(whole, self.last_days(high, unit), ends)
            clamped = clamped & ~whole
        return Moved(check_range(begins), check_range(ends), clamped)

    def _unit_kept(self, level: str) -> str | None:
        """Return the narrowest level whose whole periods stay whole when moved by `level`."""
        if level in ("week", "day"):
            return None
        narrow = [unit for unit in ("month", "quarter", "half", "year") if unit in self.levels]
        return next((unit for unit in narrow if self.keeps_place(unit, level)), None)


def check_range(days: Ints) -> Ints:
    """Return the ordinals unchanged, or raise `DateError` outside years 1 to 9999."""
    if days.size and (days.min() < FIRST_DAY or days.max() > LAST_DAY):
        raise DateError("the move goes beyond the years 1 to 9999")
    return days
