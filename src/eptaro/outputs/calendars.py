"""Calendars written out: their periods as tables and iCalendar, and the plan of a year."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.results.column import Column, date_column
from eptaro.core.results.result import Result
from eptaro.errors import CalendarError, InputError
from eptaro.outputs.files import replace_whole
from eptaro.record import Record, record

_LISTED = ("year", "half", "quarter", "month")


def list_periods(calendar: Calendar, span: Span) -> Result:
    """Return the calendar's finest listed periods over a span, as `ListedCalendar` reads them.

    Columns: `year` and, as far as the calendar has them, `half`, `quarter`, `month`; then
    `first` and `last`.
    """
    levels = [level for level in _LISTED if level in calendar.levels]
    periods = calendar.periods(span, levels[-1])
    columns = []
    for level in levels:
        holding = calendar.index_of(periods.first, level)
        years, numbers = calendar.numbers(holding, level)
        values = years if level == "year" else numbers
        text = f"The {level}, as named" if level == "year" else f"Number of the {level}"
        columns.append(Column.of(level, "integer", values, unit="number", description=text))
    columns.append(date_column("first", periods.first, description="First day"))
    columns.append(date_column("last", periods.last, description="Last day"))
    return Result(columns, {"calendar": calendar.describe()})


def check_years(calendar: Calendar, first: int, last: int, other: Calendar | None = None) -> Result:
    """Return one row per year: label, first and last day, days, whole weeks, months' lengths.

    With another calendar, its first and last day of the year of the same number are
    beside, and `same` says whether every boundary of the two agrees in that year.
    """
    years = np.arange(first, last + 1)
    index, exists = calendar.index_at(years, np.ones_like(years), "year")
    first_days, last_days = calendar.first_days(index, "year"), calendar.last_days(index, "year")
    days = last_days - first_days + 1
    columns = [
        Column.text("year", calendar.labels(index, "year"), description="Label of the year"),
        date_column("first", first_days, exists, "First day"),
        date_column("last", last_days, exists, "Last day"),
        Column.of("days", "integer", days, exists, unit="days", description="Length"),
    ]
    if "week" in calendar.levels:
        begin = calendar.index_at(years, np.ones_like(years), "week")[0]
        end = calendar.index_at(years + 1, np.ones_like(years), "week")[0]
        columns.append(
            Column.of(
                "weeks",
                "integer",
                end - begin,
                exists,
                unit="weeks",
                description="Whole weeks that belong to the year",
            )
        )
    if other is not None:
        columns += _compare_years(calendar, other, years)
    return Result(columns, {"calendar": calendar.describe()})


def _compare_years(calendar: Calendar, other: Calendar, years: Any) -> list[Column]:
    index, exists = other.index_at(years, np.ones_like(years), "year")
    begins, ends = other.first_days(index, "year"), other.last_days(index, "year")
    same = [
        bool(e) and _same_year(calendar, other, int(y)) for y, e in zip(years, exists, strict=True)
    ]
    return [
        date_column(f"{other.name}_first", begins, exists, f"First day in {other.name}"),
        date_column(f"{other.name}_last", ends, exists, f"Last day in {other.name}"),
        Column.of("same", "flag", same, description="Whether all boundaries of the year agree"),
    ]


def _same_year(calendar: Calendar, other: Calendar, year: int) -> bool:
    one, two = (c.period(f"{c.prefix}{year:04d}") for c in (calendar, other))
    if one.span != two.span or calendar.levels != other.levels:
        return False
    return all(
        np.array_equal(
            calendar.periods(one.span, level).first, other.periods(one.span, level).first
        )
        for level in calendar.levels
    )


def write_icalendar(calendar: Calendar, span: Span, workdays: Workdays, path: Path) -> Path:
    """Write the first and last days of all periods, and the holidays, as an iCalendar file."""
    try:
        import icalendar
    except ImportError:
        raise InputError(
            "writing .ics needs the package icalendar; install it with: "
            "pip install 'eptaro[calendars]'"
        ) from None
    file = icalendar.Calendar()
    file.add("prodid", "-//Eptaro//periods//EN")
    file.add("version", "2.0")
    stamp = dt.datetime.combine(span.first, dt.time(), dt.UTC)

    def event(day: dt.date, text: str, kind: str) -> None:
        entry = icalendar.Event()
        entry.add("uid", f"{day:%Y%m%d}-{text.replace(' ', '-')}@{calendar.name}.eptaro")
        entry.add("dtstamp", stamp)
        entry.add("dtstart", day)
        entry.add("dtend", day + dt.timedelta(1))
        entry.add("summary", text)
        entry.add("categories", [kind])
        file.add_component(entry)

    for level in calendar.levels:
        if level not in ("week", "day"):
            for period in calendar.periods(span, level):
                event(period.first, f"{period.shown} begins", level)
                event(period.last, f"{period.shown} ends", level)
    for holiday in workdays.holidays.between(span):
        event(holiday.day, holiday.name, holiday.kind)
    content = file.to_ical()
    return replace_whole(path, lambda beside: _write(content, beside))


def _write(content: bytes, path: Path) -> None:
    path.write_bytes(content)


_DAY = dt.timedelta(1)


@record
class WeekLine(Record):
    """One line of a month: the week's number and seven days, None outside the month."""

    number: int
    days: tuple[dt.date | None, ...]


@record
class MonthBlock(Record):
    """A month (or the finest period that the calendar has) in whole-week lines."""

    period: Period
    quarter: Period | None
    lines: tuple[WeekLine, ...]


@record
class YearPlan(Record):
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
            before = holidays.get(holiday.day)
            holidays[holiday.day] = f"{before}; {holiday.name}" if before else holiday.name
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
