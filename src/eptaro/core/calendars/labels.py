"""Labels of periods as people see them and type them: templates, and forms beside the key."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from string import Formatter
from typing import Any, NamedTuple

import numpy as np

from eptaro.core.calendars.days import as_dates, civil_date
from eptaro.core.calendars.levels import Names, check_level, month_number
from eptaro.core.calendars.period import Periods
from eptaro.errors import CalendarError, unknown

_TWO_DIGITS = ("year", "start", "end")  # of which `year_short` and its like have the last digits
_OF_MONTH = ("month_name", "month_short")


def check_templates(templates: Mapping[str, str], offered: tuple[str, ...]) -> None:
    """Raise `CalendarError` for a template of a level that cannot be filled in."""
    if not isinstance(templates, Mapping):
        raise CalendarError(f"shown={templates!r} must go from levels to templates")
    day = dt.date(2025, 1, 1)
    sample = _fields(("2025-01", "", 2025, 2025, 2025, 1, 1, day, day))
    for level, template in templates.items():
        if check_level(level, offered) == "day":
            raise CalendarError("shown: days are shown as dates; leave the template of days out")
        if not isinstance(template, str) or not template.isprintable():
            raise CalendarError(f"shown: {template!r} is not a line of text")
        try:
            fields = [name for _, name, *_ in Formatter().parse(template) if name is not None]
            for name in fields:
                if name not in sample:
                    raise CalendarError(f"shown: {template!r}: {unknown('field', name, sample)}")
            template.format(**sample)
        except CalendarError:
            raise
        except (ValueError, TypeError, KeyError, IndexError) as error:
            raise CalendarError(f"shown: {template!r} cannot be filled in: {error}") from None
        if not fields:
            raise CalendarError(f"shown: {template!r} has no field, such as {{year}}")


def fill_template(template: str, periods: Periods) -> list[str]:
    """Return what a template shows for each of some periods.

    Fields are `label`, the key; `prefix`; `year`, as it is named; `start` and `end`, the civil
    years in which that year begins and ends; `number`, the period's number in it; `month_name` and
    `month_short`, the civil month of the period's middle day, beside which `year` is the year of
    that month; `first` and `last`, its days, which take the directives of dates. `year_short`,
    `start_short` and `end_short` have two digits.

    >>> from eptaro.core.calendars.month import MonthCalendar
    >>> from eptaro.core.calendars.span import Span
    >>> fiscal = MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    >>> months = fiscal.periods(Span("2025-07-01", "2025-08-31"), "month")
    >>> fill_template("{month_short} {year}", months)
    ['Jul 2025', 'Aug 2025']
    >>> fill_template("P{number:02} {start}/{end_short}", months)
    ['P04 2025/26', 'P05 2025/26']
    """
    calendar, years = periods.calendar, periods.years
    whole, _ = calendar.index_at(years, np.ones_like(years), "year")
    begins, _, _ = civil_date(calendar.first_days(whole, "year"))
    ends, _, _ = civil_date(calendar.last_days(whole, "year"))
    of_month, months, _ = civil_date((periods.first + periods.last) // 2)
    if any(f"{{{name}" in template for name in _OF_MONTH):
        years = of_month
    numbers = (part.tolist() for part in (years, begins, ends, periods.numbers, months))
    days = (as_dates(days).tolist() for days in (periods.first, periods.last))
    prefixes = [calendar.prefix] * len(periods)
    rows = zip(periods.labels.tolist(), prefixes, *numbers, *days, strict=True)
    return [template.format(**_fields(row)) for row in rows]


def _fields(row: tuple[Any, ...]) -> dict[str, Any]:
    """Return the fields of a period of these values."""
    names = ("label", "prefix", "year", "start", "end", "number", "month", "first", "last")
    fields = dict(zip(names, row, strict=True))
    month = fields.pop("month") - 1
    fields |= {"month_name": Names.months[month], "month_short": Names.months_short[month]}
    return fields | {f"{name}_short": f"{fields[name] % 100:02}" for name in _TWO_DIGITS}


class TypedLabel(NamedTuple):
    """What a label says that is not written as labels are: the number of a level in a year; the
    month of a civil year; a year that `spans_two`, named by the first.
    """

    year: int
    level: str = "year"
    number: int = 1
    civil: bool = False
    spans_two: bool = False


_YEAR_TYPED = r"(?P<y>\d{4}|\d{2})(?:(?P<s>[/–-])(?P<z>\d{4}|\d{2}))?"
_PART_TYPED = r"(?P<k>[HQMPW])\s?(?P<n>\d{1,2})"
_TYPED = (
    rf"(?P<p>PREFIX)?\s?{_YEAR_TYPED}(?:[-\s]?{_PART_TYPED})?",
    rf"{_PART_TYPED}[-\s,]?\s?(?P<p>PREFIX)?\s?{_YEAR_TYPED}",
)
_CIVIL = (
    r"(?P<w>[A-Z]{3,})\.?[-\s,]\s?(?P<y>\d{4})",
    r"(?P<y>\d{4})[-\s](?P<w>[A-Z]{3,})\.?",
    r"(?P<y>\d{4})[-/](?P<w>\d{1,2})",
    r"(?P<w>\d{1,2})/(?P<y>\d{4})",
)
_NUMBERED = (r"(?P<y>\d{4})[-/.](?P<n>\d{1,3})", r"(?P<n>\d{1,3})[-/.](?P<y>\d{4})")
_LEVEL_OF = {"H": "half", "Q": "quarter", "M": "month", "P": "month", "W": "week"}
PIVOT = 70  # years of two digits below it are in the 2000s


def typed_label(text: str, prefix: str, *, fiscal: bool = False) -> TypedLabel | None:
    """Return what a label says that somebody typed; None where it is none, or could be two.

    A year without the prefix that a calendar has could be a civil year, and one of two digits
    alone anything. Where all years are known to be `fiscal` ones, the numbers beside them are those
    of their months.

    >>> typed_label("q3 fy26", "FY")
    TypedLabel(year=2026, level='quarter', number=3, civil=False, spans_two=False)
    >>> typed_label("2025", "FY"), typed_label("25", "")
    (None, None)
    >>> typed_label("2023-24", ""), typed_label("FY2006-07", "FY")
    (TypedLabel(year=2023, level='year', number=1, civil=False, spans_two=True), None)
    >>> typed_label("2025-03", "FY", fiscal=True)
    TypedLabel(year=2025, level='month', number=3, civil=False, spans_two=False)
    """
    plain = " ".join(text.upper().split())
    for form in _TYPED:
        match = re.fullmatch(form.replace("PREFIX", re.escape(prefix.upper())), plain)
        if match is None:
            continue
        year, end, kind = match["y"], match["z"], match["k"]
        has_prefix = bool(prefix and match["p"])
        civil = bool(prefix) and not has_prefix and not end and not fiscal
        if civil or (len(year) == 2 and not has_prefix):
            continue
        whole = int(year) if len(year) == 4 else int(year) + (1900 if int(year) >= PIVOT else 2000)
        if end and int(end) != (whole + 1 if len(end) == 4 else (whole + 1) % 100):
            continue
        if end and len(end) == 2 and int(end) <= 12:
            if match["s"] == "/" and not has_prefix:  # 2006/07: July, or a year
                return None
            if match["s"] != "/":  # 2006-07 is July, and FY2006-07 a month or a year
                continue
        level = "year" if kind is None else _LEVEL_OF[kind]
        return TypedLabel(whole, level, int(match["n"] or 1), spans_two=bool(end))
    for form in _NUMBERED if fiscal else ():
        match = re.fullmatch(form, plain)
        if match is not None:
            return TypedLabel(int(match["y"]), "month", int(match["n"]))
    for form in _CIVIL:
        match = re.fullmatch(form, plain)
        month = month_number(match["w"]) if match is not None else None
        if match is not None and month in range(1, 13) and int(match["y"]) >= 1:
            return TypedLabel(int(match["y"]), "month", month or 1, civil=True)
    return None
