"""`YearPlan`: one year of a calendar laid out in months of whole-week lines, for showing."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.workdays import Workdays
from eptaro.errors import CalendarError

_DAY = dt.timedelta(1)


@dataclass(frozen=True)
class WeekLine:
    """One line of a month: the week's number and seven days, None outside the month."""

    number: int
    days: tuple[dt.date | None, ...]


@dataclass(frozen=True)
class MonthBlock:
    """A month (or the finest period that the calendar has) in whole-week lines."""

    period: Period
    quarter: Period | None
    lines: tuple[WeekLine, ...]


@dataclass(frozen=True)
class YearPlan:
    """A year of a calendar, ready to be drawn or printed."""

    year: Period
    weekdays: tuple[str, ...]
    blocks: tuple[MonthBlock, ...]
    workdays: Workdays
    holidays: dict[dt.date, str]

    def is_workday(self, day: dt.date) -> bool:
        """Return whether a day is worked."""
        return bool(self.workdays.is_workday(np.array([ordinal(day)]))[0])

    def is_weekend(self, day: dt.date) -> bool:
        """Return whether a day falls on the weekend."""
        return bool(self.workdays.is_weekend(np.array([ordinal(day)]))[0])

    @classmethod
    def of(cls, calendar: Calendar, year: int, workdays: Workdays) -> YearPlan:
        """Lay out a year, as named; raises `CalendarError` where the calendar has none."""
        if not 2 <= year <= 9998:  # the first and last week of all have days without a date
            raise CalendarError(f"year {year} cannot be laid out; choose one from 2 to 9998")
        whole = calendar.period(f"{calendar.prefix}{year:04d}")
        starts = WEEKDAYS.index(getattr(calendar, "week_starts", "monday"))
        finest = next(lv for lv in ("month", "quarter", "half", "year") if lv in calendar.levels)
        periods = list(calendar.periods(whole.span, finest))
        if not periods:
            raise CalendarError(f"calendar {calendar.name!r} has no periods in {whole.label}")
        holidays: dict[dt.date, str] = {}
        for holiday in workdays.holidays.between(whole.span):
            named = holidays.get(holiday.day)
            holidays[holiday.day] = f"{named}; {holiday.name}" if named else holiday.name
        blocks = tuple(_block(calendar, period, starts) for period in periods)
        weekdays = tuple(WEEKDAYS[(starts + i) % 7] for i in range(7))
        return cls(whole, weekdays, blocks, workdays, holidays)


def _block(calendar: Calendar, period: Period, starts: int) -> MonthBlock:
    quarter = None
    if "quarter" in calendar.levels and period.level == "month":
        quarter = calendar.period_of(period.first, "quarter")
    lines = []
    day = period.first - _DAY * ((period.first.weekday() - starts) % 7)
    while day <= period.last:
        week = tuple(day + _DAY * i for i in range(7))
        inside = tuple(d if period.first <= d <= period.last else None for d in week)
        lines.append(WeekLine(_week_number(calendar, next(filter(None, inside))), inside))
        day += 7 * _DAY
    return MonthBlock(period, quarter, tuple(lines))


def _week_number(calendar: Calendar, day: dt.date) -> int:
    if "week" in calendar.levels:
        return calendar.period_of(day, "week").number
    return day.isocalendar().week
