"""`Sheet`: the days of a dimension as one calendar sees them, evaluated once and shared."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, civil, weekday
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.period import PeriodGrid, Periods
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays


@dataclass(frozen=True, eq=False)
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
        return civil(self.days)

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
        """Return labels of periods at most a year before the sheet's own, formatted once."""
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
