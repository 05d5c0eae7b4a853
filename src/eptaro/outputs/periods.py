"""The periods of a calendar as tables and as iCalendar files."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.tables.column import Column, dates
from eptaro.core.tables.result import Result
from eptaro.errors import InputError
from eptaro.outputs.files import replace_whole

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
    columns.append(dates("first", periods.first, description="First day"))
    columns.append(dates("last", periods.last, description="Last day"))
    return Result(columns, {"calendar": calendar.describe()})


def check_years(calendar: Calendar, first: int, last: int, other: Calendar | None = None) -> Result:
    """Return one row per year: label, first and last day, days, whole weeks, months' lengths.

    With another calendar, its first and last day of the year of the same number stand
    beside, and `same` says whether every boundary of the two agrees in that year.
    """
    years = np.arange(first, last + 1)
    index, exists = calendar.index_at(years, np.ones_like(years), "year")
    first_days, last_days = calendar.first_days(index, "year"), calendar.last_days(index, "year")
    days = last_days - first_days + 1
    columns = [
        Column.text("year", calendar.labels(index, "year"), description="Label of the year"),
        dates("first", first_days, exists, "First day"),
        dates("last", last_days, exists, "Last day"),
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
        columns += _against(calendar, other, years)
    return Result(columns, {"calendar": calendar.describe()})


def _against(calendar: Calendar, other: Calendar, years: Any) -> list[Column]:
    index, exists = other.index_at(years, np.ones_like(years), "year")
    begins, ends = other.first_days(index, "year"), other.last_days(index, "year")
    same = [bool(e) and _same(calendar, other, int(y)) for y, e in zip(years, exists, strict=True)]
    return [
        dates(f"{other.name}_first", begins, exists, f"First day in {other.name}"),
        dates(f"{other.name}_last", ends, exists, f"Last day in {other.name}"),
        Column.of("same", "flag", same, description="Whether all boundaries of the year agree"),
    ]


def _same(calendar: Calendar, other: Calendar, year: int) -> bool:
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
    made = icalendar.Calendar()
    made.add("prodid", "-//Eptaro//periods//EN")
    made.add("version", "2.0")
    stamp = dt.datetime.combine(span.first, dt.time(), dt.UTC)

    def event(day: dt.date, text: str, kind: str) -> None:
        entry = icalendar.Event()
        entry.add("uid", f"{day:%Y%m%d}-{text.replace(' ', '-')}@{calendar.name}.eptaro")
        entry.add("dtstamp", stamp)
        entry.add("dtstart", day)
        entry.add("dtend", day + dt.timedelta(1))
        entry.add("summary", text)
        entry.add("categories", [kind])
        made.add_component(entry)

    for level in calendar.levels:
        if level not in ("week", "day"):
            for period in calendar.periods(span, level):
                event(period.first, f"{period.label} begins", level)
                event(period.last, f"{period.label} ends", level)
    for holiday in workdays.holidays.between(span):
        event(holiday.day, holiday.name, holiday.kind)
    content = made.to_ical()
    return replace_whole(path, lambda beside: _write(content, beside))


def _write(content: bytes, path: Path) -> None:
    path.write_bytes(content)
