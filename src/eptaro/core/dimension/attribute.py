"""`Attribute`: a column of the date dimension; `Sheet`: the days that it is for."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Days, Flags, Ints, civil_date, weekday
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.period import PeriodGrid, Periods
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.results.column import Column, ColumnKind
from eptaro.record import Record, record


@record
class Sheet:
    """What attributes are gathered from; `as_of` is a day ordinal, None without one."""

    span: Span
    calendar: Calendar
    workdays: Workdays
    names: Names
    as_of: int | None = None

    @cached_property
    def days(self) -> NDArray[np.int32]:
        """The day ordinals."""
        return np.arange(self.span.lo, self.span.hi + 1, dtype=np.int32)

    @cached_property
    def civil(self) -> tuple[Ints, Ints, Ints]:
        """Civil year, month and day of each day."""
        return civil_date(self.days)

    @cached_property
    def weekday(self) -> Ints:
        """The weekday of each day, 0 = Monday."""
        return weekday(self.days)

    @cached_property
    def grid(self) -> PeriodGrid:
        """The calendar over the span."""
        return self.calendar.grid(self.span)

    def periods(self, level: str) -> Periods:
        """Return the calendar's periods of a level."""
        return self.grid.periods(level)

    def places(self, level: str) -> NDArray[np.int32]:
        """Return for each day the place of its period in `periods(level)`."""
        return self.grid.places(level)

    @cached_property
    def _labels(self) -> dict[str, tuple[int, NDArray[np.str_]]]:
        return {}

    def labels(self, index: Ints, level: str) -> NDArray[np.str_]:
        """Return labels of periods at most a year before the sheet's own, formatted once.

        `index` and the labels are `(n_days,)`.
        """
        if level not in self._labels:
            own = self.periods(level).index
            start = int(min(own[0], index.min())) - 60
            every = self.calendar.labels(np.arange(start, own[-1] + 1), level)
            self._labels[level] = (start, every)
        start, every = self._labels[level]
        return every[index - start]

    @cached_property
    def workday_numbers(self) -> Ints:
        """How many workdays come before each day, from a fixed day on."""
        return self.workdays.number(self.days)

    @cached_property
    def is_workday(self) -> Flags:
        """Which days are workdays."""
        return np.diff(self.workday_numbers, append=self.workdays.number(self.days[-1:] + 1)) > 0

    @cached_property
    def holiday_places(self) -> Ints:
        """For each day the place of its first holiday in the holiday set, -1 for none."""
        holidays = self.workdays.holidays.days
        place = np.searchsorted(holidays, self.days, side="left")
        if not len(holidays):
            return np.full(len(self.days), -1)
        hit = holidays[np.minimum(place, len(holidays) - 1)] == self.days
        return np.where(hit, place, -1)


Compute = Callable[[Sheet], Column]
KEY = frozenset({"key", "standard"})  # the column sets that attributes belong to
STANDARD = frozenset({"standard"})
NONE: frozenset[str] = frozenset()


@record
class Attribute(Record):
    """One attribute: its name, the level it speaks of, its meaning, and how it is gathered.

    `in_sets` names the column sets that it belongs to beside `all`.
    """

    name: str
    level: str
    kind: ColumnKind
    description: str
    compute: Compute
    unit: str = ""
    in_sets: frozenset[str] = frozenset()

    def column(self, sheet: Sheet, prefix: str = "") -> Column:
        """Return the attribute's column over the sheet's days."""
        column = self.compute(sheet)
        return Column.of(
            prefix + self.name,
            self.kind,
            column.data,
            column.valid,
            choices=column.choices,
            unit=self.unit,
            description=self.description,
        )


def small_values(values: ArrayLike) -> NDArray[np.int32]:
    """Return whole numbers in 32 bits, which hold every key and count of a dimension."""
    return np.asarray(values).astype(np.int32, copy=False)


def integer_values(values: ArrayLike, valid: Flags | None = None) -> Column:
    """Return whole numbers. `values` and `valid` are `(n_days,)`."""
    return Column.of("", "integer", small_values(values), valid)


def flag_values(values: ArrayLike) -> Column:
    """Return flags."""
    return Column.of("", "flag", values)


def date_values(days: Days, valid: Flags | None = None) -> Column:
    """Return dates from day ordinals. `days` and `valid` are `(n_days,)`."""
    return Column.of("", "date", days, valid)


def date_key(days: Days, valid: Flags | None = None) -> Column:
    """Return dates as the numbers yyyymmdd. `days` and `valid` are `(n_days,)`."""
    year, month, day = civil_date(days)
    return integer_values(year * 10_000 + month * 100 + day, valid)


def text_values(choices: ArrayLike, codes: ArrayLike) -> Column:
    """Return text: one of the choices for each code."""
    return Column.text("", np.asarray(choices), codes)
