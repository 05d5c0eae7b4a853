"""`Period`: one period of a calendar; `Periods`: many; `PeriodGrid`: those of a span."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from dataclasses import field
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Ints, as_date
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError
from eptaro.record import Record, record

if TYPE_CHECKING:
    from eptaro.core.calendars.calendar import Calendar


@record(guarded=True)
class Period(Record):
    """One member of a level of a calendar; made by `calendar.period` and `calendar.period_of`.

    `index` is a running number over all time: neighbours differ by 1. Periods of one
    calendar and level compare in time order; others do not compare.

    Parameters
    ----------
    calendar : Calendar
        The calendar that it is of.
    level : str
        Its level.
    index : int
        Its running number over all time.

    Examples
    --------
    >>> import eptaro as ep
    >>> quarter = ep.MonthCalendar().period("2024-Q1")
    >>> quarter.first, quarter.last, quarter.days
    (datetime.date(2024, 1, 1), datetime.date(2024, 3, 31), 91)
    """

    calendar: Calendar
    level: str
    index: int

    @property
    def _own(self) -> Ints:
        return np.array([self.index], np.int64)

    @property
    def first(self) -> dt.date:
        """The first day."""
        return as_date(int(self.calendar.first_days(self._own, self.level)[0]))

    @property
    def last(self) -> dt.date:
        """The last day."""
        return as_date(int(self.calendar.last_days(self._own, self.level)[0]))

    @property
    def span(self) -> Span:
        """The days of the period."""
        return Span(self.first, self.last)

    @property
    def days(self) -> int:
        """The number of days."""
        return self.span.days

    @property
    def label(self) -> str:
        """The label, which sorts as text in time order."""
        return str(self.calendar.labels(self._own, self.level)[0])

    @property
    def shown(self) -> str:
        """What people see: what a template of the calendar says, or the label."""
        return self.calendar.shown_label(self.label)

    @property
    def year(self) -> int:
        """The year that the period belongs to, as named (a week's week-year)."""
        return int(self.calendar.numbers(self._own, self.level)[0][0])

    @property
    def number(self) -> int:
        """The number within the year, from 1."""
        return int(self.calendar.numbers(self._own, self.level)[1][0])

    def shift(self, n: int, step: str | None = None) -> Period | None:
        """Return the period `n` steps later (earlier where negative).

        Without `step` it steps within its own level. With a wider `step`, such as
        `"year"`, it is the period of the same place `n` of those later, or None where
        there is none (week 53 before a 52-week year).

        Parameters
        ----------
        n : int
            How many steps, back where negative.
        step : str, optional
            The level stepped by, by default its own.

        Returns
        -------
        Period or None
            The period there; None where there is none, as week 53 before a 52-week year.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().period("2025-Q1").shift(-1)
        Period('2024-Q4', quarter, 2024-10-01..2024-12-31)
        """
        step = step or self.level
        index, exists = self.calendar.counterparts(self._own, self.level, n, step)
        return Period(self.calendar, self.level, int(index[0])) if exists[0] else None

    def parts(self, level: str) -> Periods:
        """Return the periods of a narrower level that share a day with this one.

        Parameters
        ----------
        level : str
            A narrower level.

        Returns
        -------
        Periods
            Its periods that share a day with this one.

        Examples
        --------
        >>> import eptaro as ep
        >>> [part.label for part in ep.MonthCalendar().period("2025-Q1").parts("month")]
        ['2025-01', '2025-02', '2025-03']
        """
        return self.calendar.periods(self.span, level)

    def __iter__(self) -> Iterator[dt.date]:
        return (as_date(day) for day in range(self.span.lo, self.span.hi + 1))

    def __contains__(self, day: object) -> bool:
        return day in self.span

    def __str__(self) -> str:
        return self.label

    def __repr__(self) -> str:
        return f"Period({self.label!r}, {self.level}, {self.first}..{self.last})"

    def _comparable(self, other: Period) -> bool:
        if self.calendar == other.calendar and self.level == other.level:
            return True
        raise CalendarError(
            f"{self.label} ({self.calendar.name}, {self.level}) and {other.label} "
            f"({other.calendar.name}, {other.level}) do not compare; compare their days"
        )

    def __lt__(self, other: Period) -> bool:
        return self._comparable(other) and self.index < other.index

    def __le__(self, other: Period) -> bool:
        return self._comparable(other) and self.index <= other.index

    def __gt__(self, other: Period) -> bool:
        return self._comparable(other) and self.index > other.index

    def __ge__(self, other: Period) -> bool:
        return self._comparable(other) and self.index >= other.index


@record
class Periods:
    """Many periods of one level as arrays that run in step with `index`."""

    calendar: Calendar
    level: str
    index: Ints

    @cached_property
    def first(self) -> Ints:
        """The first day of each, as ordinals."""
        return self.calendar.first_days(self.index, self.level)

    @cached_property
    def last(self) -> Ints:
        """The last day of each, as ordinals."""
        return self.calendar.last_days(self.index, self.level)

    @cached_property
    def labels(self) -> NDArray[np.str_]:
        """The label of each."""
        return self.calendar.labels(self.index, self.level)

    @cached_property
    def _numbers(self) -> tuple[Ints, Ints]:
        return self.calendar.numbers(self.index, self.level)

    @property
    def years(self) -> Ints:
        """The year that each belongs to."""
        return self._numbers[0]

    @property
    def numbers(self) -> Ints:
        """The number of each within its year, from 1."""
        return self._numbers[1]

    def position_of(self, days: Days) -> Ints:
        """Return the place in these (consecutive) periods that holds each day.

        `days` and the places have one shape.
        """
        return np.searchsorted(self.first, days, side="right") - 1

    def __len__(self) -> int:
        return len(self.index)

    def __iter__(self) -> Iterator[Period]:
        return (Period(self.calendar, self.level, int(i)) for i in self.index)

    def __getitem__(self, place: Any) -> Any:
        picked_index = self.index[place]
        if np.ndim(picked_index):
            return Periods(self.calendar, self.level, picked_index)
        return Period(self.calendar, self.level, int(picked_index))


@record(guarded=True)
class PeriodGrid:
    """For each level an int32 array day → period, and the periods themselves.

    Any attribute of any date is then one gather: `values_per_period[grid.places("month")]`.

    Parameters
    ----------
    span : Span
        The days.
    by_level : mapping of str to Periods
        The periods of each level that share a day with them.

    Examples
    --------
    >>> import eptaro as ep
    >>> grid = ep.MonthCalendar().grid(ep.Span("2025-01-30", "2025-02-02"))
    >>> grid.places("month").tolist(), grid.periods("month").labels.tolist()
    ([0, 0, 1, 1], ['2025-01', '2025-02'])
    """

    span: Span
    by_level: Mapping[str, Periods]
    _places: dict[str, NDArray[np.int32]] = field(default_factory=dict, repr=False)

    @property
    def days(self) -> NDArray[np.int32]:
        """The day ordinals of the span."""
        return np.arange(self.span.lo, self.span.hi + 1, dtype=np.int32)

    def periods(self, level: str) -> Periods:
        """Return the periods of a level that share a day with the span.

        Parameters
        ----------
        level : str
            A level.

        Returns
        -------
        Periods
            Its periods.

        Examples
        --------
        >>> import eptaro as ep
        >>> grid = ep.MonthCalendar().grid(ep.Span("2025-01-01", "2025-03-31"))
        >>> grid.periods("quarter").labels.tolist()
        ['2025-Q1']
        """
        return self.by_level[check_level(level, tuple(self.by_level))]

    def places(self, level: str) -> NDArray[np.int32]:
        """Return for each day the place, from 0, of its period in `periods(level)`.

        Parameters
        ----------
        level : str
            A level.

        Returns
        -------
        int32 array
            For each day the place of its period, from 0.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().grid(ep.Span("2025-01-31", "2025-02-01")).places("month").tolist()
        [0, 1]
        """
        if level not in self._places:
            periods = self.periods(level)
            lengths = np.minimum(periods.last, self.span.hi) - np.maximum(
                periods.first, self.span.lo
            )
            self._places[level] = np.repeat(np.arange(len(periods), dtype=np.int32), lengths + 1)
        return self._places[level]

    def check(self) -> None:
        """Raise `CalendarError` unless every level covers the span without gap or overlap,
        the levels year to month nest, and labels sort in time order.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().grid(ep.Span("2025-01-01", "2025-12-31")).check()
        """
        for level, periods in self.by_level.items():
            adjacent = (periods.first[1:] == periods.last[:-1] + 1).all()
            covers = periods.first[0] <= self.span.lo and periods.last[-1] >= self.span.hi
            if not (adjacent and covers and len(self.places(level)) == self.span.days):
                raise CalendarError(f"the {level}s of {self.span} leave a gap or overlap")
            if not (periods.labels[1:] > periods.labels[:-1]).all():
                raise CalendarError(f"the labels of the {level}s of {self.span} are out of order")
        nested = [level for level in self.by_level if level != "week"]
        for wide, narrow in pairwise(nested):
            inner, outer = self.periods(narrow), self.periods(wide)
            holder = outer.position_of(np.maximum(inner.first, self.span.lo))
            if not (inner.last <= outer.last[holder]).all():
                raise CalendarError(f"the {narrow}s of {self.span} do not nest in its {wide}s")
