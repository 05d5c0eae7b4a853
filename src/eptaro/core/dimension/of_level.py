"""How the attributes of a level are gathered: numbers, days left, names, neighbours."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from eptaro.core.calendars.days import Ints, civil
from eptaro.core.calendars.period import Periods
from eptaro.core.dimension.attribute import Compute, integer, words
from eptaro.core.dimension.sheet import Sheet
from eptaro.core.tables.column import Column


def numbered(level: str, take: Callable[[Periods], Ints]) -> Compute:
    """Return what gathers a number of each day's period."""
    return lambda sheet: integer(take(sheet.periods(level))[sheet.places(level)])


def key_numbers(periods: Periods) -> Ints:
    """Return year and number of periods as one number."""
    if periods.level == "year":
        return periods.years
    return periods.years * (10 if periods.level in ("half", "quarter") else 100) + periods.numbers


def day_of(sheet: Sheet, level: str) -> Ints:
    """Return the number of each day in its period, from 1."""
    return sheet.days - sheet.periods(level).first[sheet.places(level)] + 1


def days_left(sheet: Sheet, level: str) -> Ints:
    """Return how many days follow in the period."""
    return sheet.periods(level).last[sheet.places(level)] - sheet.days


def workdays_in(sheet: Sheet, level: str) -> Column:
    """Return how many workdays each day's period has."""
    periods = sheet.periods(level)
    return integer(sheet.workdays.between(periods.first, periods.last)[sheet.places(level)])


def workday_of(sheet: Sheet, level: str) -> Column:
    """Number of the workday in its period; blank on a day that is no workday."""
    before = sheet.workdays.number(sheet.periods(level).first)[sheet.places(level)]
    return integer(sheet.workday_numbers - before + 1, sheet.is_workday)


def workdays_left(sheet: Sheet, level: str) -> Column:
    """Return how many workdays follow in the period."""
    after = sheet.workdays.number(sheet.periods(level).last + 1)[sheet.places(level)]
    return integer(after - sheet.workday_numbers - sheet.is_workday)


def names_of(level: str, *, short: bool) -> Compute:
    """Return what gathers localised names of periods."""

    def compute(sheet: Sheet) -> Column:
        return words(_period_names(sheet, sheet.periods(level), short=short), sheet.places(level))

    return compute


def _period_names(sheet: Sheet, periods: Periods, *, short: bool) -> Sequence[str]:
    """Return localised names: of quarters, and of months that are civil ones; else labels."""
    names = sheet.names
    if periods.level == "quarter":
        years = [f"{sheet.calendar.prefix}{year}" for year in periods.years.tolist()]
        return [
            names.quarter_of(year, number, short=short)
            for year, number in zip(years, periods.numbers.tolist(), strict=True)
        ]
    year, month, day = civil(periods.first)
    ends = civil(periods.last + 1)
    if periods.level == "month" and (day == 1).all() and (ends[2] == 1).all():
        return [
            names.month_of(y, m, short=short)
            for y, m in zip(year.tolist(), month.tolist(), strict=True)
        ]
    return sheet.labels(periods.index, periods.level)  # type: ignore[return-value]


def labels_before(level: str, step: str) -> Compute:
    """Label of the period before, or of the same number a year back; blank where none is."""

    def compute(sheet: Sheet) -> Column:
        periods = sheet.periods(level)
        index, exists = sheet.calendar.counterparts(periods.index, level, -1, step)
        labels = sheet.labels(np.where(exists, index, periods.index), level)
        places = sheet.places(level)
        return words(labels, np.where(exists[places], places, -1))

    return compute


def place_in(inner: str, outer: str) -> Compute:
    """Number of a period within a wider one."""

    def compute(sheet: Sheet) -> Column:
        wide, narrow = sheet.periods(outer), sheet.periods(inner)
        first = sheet.calendar.index_of(wide.first, inner)
        return integer(narrow.index[sheet.places(inner)] - first[sheet.places(outer)] + 1)

    return compute


def cut_week(level: str) -> Compute:
    """Weeks that restart at 1 with the period and step on every first day of the week."""

    def compute(sheet: Sheet) -> Column:
        first = sheet.calendar.index_of(sheet.periods(level).first, "week")
        return integer(
            sheet.periods("week").index[sheet.places("week")] - first[sheet.places(level)] + 1
        )

    return compute


def labels_of(level: str) -> Compute:
    """Return what gathers the labels of periods."""

    def compute(sheet: Sheet) -> Column:
        return words(sheet.labels(sheet.periods(level).index, level), sheet.places(level))

    return compute
