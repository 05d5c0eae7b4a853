"""Attributes of days that recur: which weekday, month of year, hour or day type it is.

Each is a text column whose choices are all its values in natural order.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from eptaro.core.dimension.attribute import Attribute, Compute, Sheet, text_values
from eptaro.core.results.column import Column
from eptaro.errors import QuestionError, unknown

HOUR = "hour"  # of the transactions, not of days: every day has all of them
DAY_TYPES = ("workday", "weekend", "holiday")
_LETTERS = {"month": "M", "quarter": "Q", "week": "W"}
_MOST = {"month": 13, "quarter": 4, "week": 53}  # periods of a year


def _hour(sheet: Sheet) -> Column:
    return text_values([f"{hour:02d}" for hour in range(24)], np.zeros(len(sheet.days), np.int64))


def _weekday(sheet: Sheet) -> Column:
    names = list(sheet.names.weekdays)
    start = names.index(str(getattr(sheet.calendar, "week_starts", "monday")).title())
    return text_values([*names[start:], *names[:start]], (sheet.weekday - start) % 7)


def _day_of_month(sheet: Sheet) -> Column:
    return text_values([str(n) for n in range(1, 32)], sheet.civil[2] - 1)


def _week_of_month(sheet: Sheet) -> Column:
    return text_values([str(n) for n in range(1, 6)], (sheet.civil[2] - 1) // 7)


def _workday(sheet: Sheet) -> Column:
    return text_values(["workday", "other day"], 1 - sheet.is_workday.astype(np.int64))


def _holiday_or_other(sheet: Sheet) -> Column:
    return text_values(["holiday", "other day"], (sheet.holiday_places < 0).astype(np.int64))


def _day_type(sheet: Sheet) -> Column:
    off = np.where(sheet.workdays.is_weekend(sheet.days), 1, 2)
    return text_values(DAY_TYPES, np.where(sheet.is_workday, 0, off))


def _number_of(level: str) -> Compute:
    """The number of a period within its year, months of civil years by name."""

    def compute(sheet: Sheet) -> Column:
        numbers = sheet.periods(level).numbers[sheet.places(level)]
        if level == "month" and sheet.calendar.plain_months:
            return text_values(sheet.names.months, numbers - 1)
        form = "{}{:02d}" if _MOST[level] > 9 else "{}{}"
        names = [form.format(_LETTERS[level], n) for n in range(1, _MOST[level] + 1)]
        return text_values(names, numbers - 1)

    return compute


RECURRING: Mapping[str, Attribute] = {
    name: Attribute(name, "day", "text", f"The {name}", compute)
    for name, compute in {
        HOUR: _hour,
        "weekday": _weekday,
        "day of month": _day_of_month,
        "week of month": _week_of_month,
        "month of year": _number_of("month"),
        "quarter of year": _number_of("quarter"),
        "week of year": _number_of("week"),
        "workday": _workday,
        "holiday": _holiday_or_other,
        "day type": _day_type,
    }.items()
}
_SHORT = {"month": "month of year", "quarter": "quarter of year", "week": "week of year"}


def full_name(name: str) -> str:
    """Return a recurring attribute's name, which may be short (month for month of year).

    Raises `QuestionError` naming those that there are.
    """
    full = _SHORT.get(name, name)
    if full not in RECURRING:
        raise QuestionError(unknown("attribute", name, RECURRING))
    return full
