"""Dates that are periods of a calendar, such as the months of fiscal years."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.grain import Grain, grain_of
from eptaro.core.calendars.labels import typed_label
from eptaro.errors import CalendarError, DateError, spell_option
from eptaro.inputs.dates.texts import NO_OFFSET, ParsedTexts
from eptaro.option import setting
from eptaro.rules import DateRules

_MOST_MONTHS = 13  # of a year of any calendar
_DIGITS = {  # numbers of a grain: the year, and the number in it of so many digits
    "month": r"(\d{4})(\d{2,3})",
    "week": r"(\d{4})(\d{2})",
    "quarter": r"(\d{4})(\d)",
    "year": r"(\d{4})()",
}


def texts_of_periods(column: pa.ChunkedArray, name: str) -> pa.ChunkedArray:
    """Return a column of texts or of whole numbers as texts.

    Raises `DateError` for one of another kind.
    """
    kind = column.type.value_type if pa.types.is_dictionary(column.type) else column.type
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return column
    if pa.types.is_integer(kind) or pa.types.is_null(kind):
        return column.cast(pa.string())
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        try:
            return column.cast(pa.int64()).cast(pa.string())
        except pa.ArrowInvalid:
            raise DateError(
                f"{name!r} holds numbers with decimals, not periods of a calendar"
            ) from None
    option = setting(DateRules, "fiscal_periods", True)
    raise DateError(f"{name!r} holds {kind}, not periods of a calendar; leave out {option}")


def parse_periods(texts: pa.Array, rules: DateRules, name: str) -> tuple[ParsedTexts, Grain | None]:
    """Return the first days of the periods that texts name, and their grain; what is none is bad.

    Raises `DateError` where there are several grains and no rule says which.
    """
    calendar = _calendar(rules)
    years, numbers = np.zeros(len(texts), np.int64), np.ones(len(texts), np.int64)
    levels, reasons = np.full(len(texts), "", object), np.full(len(texts), "", object)
    labels = [text.strip() for text in texts.to_pylist()]
    if rules.grain in (None, "year"):
        labels = _written_out(labels, rules, calendar.prefix or "FY", name)
    for row, label in enumerate(labels):
        try:
            years[row], numbers[row], levels[row] = _read_label(label, rules, calendar)
        except CalendarError as error:
            reasons[row] = str(error)
    met = {level: row for row, level in reversed([*enumerate(levels.tolist())]) if level}
    if rules.grain is None and len(met) > 1:
        first = sorted((row, level) for level, row in met.items())[:2]
        one, two = (f"{texts[row].as_py()!r}, a {level}" for row, level in first)
        option = spell_option("grain=", "--grain")
        raise DateError(
            f"{name!r} holds both {one}, and {two}; name the period of its dates with {option}"
        )
    level = rules.grain or next(iter(met), None)
    other = (levels != level) & (levels != "")
    for row in np.flatnonzero(other).tolist():
        reasons[row] = f"is a {levels[row]} (grain={level})"
    if level is None:
        return _parsed(years, reasons), None
    days, exists = _first_days(calendar, years, numbers, level)
    for row in np.flatnonzero(~exists & (reasons == "")).tolist():
        reasons[row] = f"does not exist in calendar {calendar.name!r}"
    return _parsed(days, reasons), grain_of(calendar, level)


def _written_out(labels: Sequence[str], rules: DateRules, prefix: str, name: str) -> list[str]:
    """Return labels of years that span two in one form: 2010-11 and FY2010/11 as 2010/2011.

    Raises `DateError` where they could all be months as well.
    """
    form = rf"(?i)({re.escape(prefix)})? ?(\d{{4}}) ?([/–-]) ?(\d{{4}}|\d{{2}})"
    matches = [re.fullmatch(form, label) for label in labels]
    years = {(int(match[2]), int(match[4])): match for match in matches if match is not None}
    if not years or any(end not in (year + 1, (year + 1) % 100) for year, end in years):
        return [*labels]
    ((year, end), match), *others = years.items()
    is_month = end in range(1, _MOST_MONTHS + 1) and not (match[1] and match[3] == "/")
    if rules.grain is None and not others and is_month:
        one, two = (setting(DateRules, "grain", level) for level in ("month", "year"))
        raise DateError(
            f"{name!r}: {match[0]!r} may be month {end} of {year}, or the year {year}/{year + 1}; "
            f"use {one} or {two}"
        )
    return [
        label if match is None else f"{match[2]}/{int(match[2]) + 1}"
        for label, match in zip(labels, matches, strict=True)
    ]


def days_of_periods(years: Ints, numbers: Ints, rules: DateRules) -> tuple[Ints, Flags, Grain]:
    """Return the first days of the periods of a calendar with these numbers in their years, whether
    there are such, and their grain.
    """
    calendar, level = _calendar(rules), str(rules.grain)
    first, exists = _first_days(calendar, years, numbers, level)
    return first, exists, grain_of(calendar, level)


def _calendar(rules: DateRules) -> Calendar:
    """Return the calendar whose periods dates are.

    Raises `DateError` where none was given.
    """
    if not isinstance(rules.fiscal_periods, Calendar):
        cure = spell_option("calendar=", "--year-starts 04-01, or with a config")
        civil = spell_option("prefix='FY'", "--prefix FY")
        raise DateError(
            f"{setting(DateRules, 'fiscal_periods', True)} needs the calendar of the fiscal years; "
            f"give it with {cure} (where they are civil years, with {civil})"
        )
    return rules.fiscal_periods


def _read_label(text: str, rules: DateRules, calendar: Calendar) -> tuple[int, int, str]:
    """Return the year, the number in it and the level of a period.

    Raises `CalendarError` for a text that names none.
    """
    grain = rules.grain or "year"
    if (digits := re.fullmatch(_DIGITS[grain], text)) is not None:
        return int(digits[1]), int(digits[2] or 1), grain
    typed = typed_label(text, calendar.prefix or "FY", fiscal=True)
    if typed is not None and not typed.civil and not typed.spans_two:
        return typed.year, typed.number, typed.level
    try:
        period = calendar.period(text)
    except CalendarError:
        if text.isdecimal() and len(text) in (5, 6, 7):
            raise CalendarError(
                f"is a number; a month? use {setting(DateRules, 'grain', 'month')}"
            ) from None
        raise CalendarError(f"is no period of calendar {calendar.name!r}") from None
    if period.level == "day":
        raise CalendarError(f"is a day, and no period of calendar {calendar.name!r}")
    index = np.array([period.index])
    year, number = calendar.numbers(index, period.level)
    return int(year[0]), int(number[0]), period.level


def _first_days(calendar: Calendar, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
    """Return the first day of each period of a level, and whether there is such a one."""
    if level not in calendar.levels:
        raise DateError(f"calendar {calendar.name!r} has no {level}; dates are of one")
    index, exists = calendar.index_at(years, numbers, level)
    days = calendar.first_days(index[exists], level)
    first = np.zeros(len(years), np.int64)
    first[exists] = days
    return first, exists


def _parsed(days: Ints, reasons: NDArray[Any]) -> ParsedTexts:
    nothing = np.zeros(len(days), np.int64)
    return ParsedTexts(np.where(reasons == "", days, 0), nothing, nothing + NO_OFFSET, reasons)
