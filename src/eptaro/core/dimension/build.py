"""`dimension`: the table with one row per day and its attributes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import DateLike, as_date, as_of_day
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.dimension.attribute import Attribute
from eptaro.core.dimension.of_calendar import calendar_attributes
from eptaro.core.dimension.of_day import DAY_ATTRIBUTES
from eptaro.core.dimension.relative import DAY_RELATIVE, relative_attributes
from eptaro.core.dimension.sheet import Sheet
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.errors import CalendarError, QuestionError, unknown

COLUMN_SETS = ("key", "standard", "all")


def dimension(
    first: DateLike,
    last: DateLike,
    *,
    calendars: Calendar | Sequence[Calendar] | None = None,
    columns: str | Sequence[str] = "standard",
    workdays: Workdays | None = None,
    locale: str = "en",
    as_of: DateLike | None = None,
    unknown_row: bool = False,
) -> Table:
    """Return the date dimension from `first` to `last`, both included: one row per day.

    Columns of the day come first (`date`, `date_key`, ...), then those of each calendar,
    prefixed with its name (`calendar_year`, `fiscal_quarter`, ...). `columns` is a set
    (`key`, `standard` or `all`) or a list of names. `workdays` says what is a workday and
    a holiday, `locale` which language names are in (any of CLDR, by Babel). With an
    `as_of` date come the attributes that relate each day to it. `unknown_row` adds a
    first row, date_key 0 and all else blank, for transactions without a date.

    Every column carries its description: `dimension(...).describe()` is the data
    dictionary. Days outside a listed calendar are blank there. Cost: one gather per
    column.

    Parameters
    ----------
    first, last : date
        The ends of the days, both included.
    calendars : Calendar or sequence of these, optional
        By default civil years.
    columns : str or sequence of str
        A set (`key`, `standard`, `all`), or names.
    workdays : Workdays, optional
        What is a workday and a holiday.
    locale : str
        The language of names, any of CLDR.
    as_of : date, optional
        Adds the attributes that relate each day to it.
    unknown_row : bool
        Adds a first row, date_key 0 and else blank.

    Returns
    -------
    Table
        One row per day.

    Raises
    ------
    DateError
        For a bad or reversed span.
    CalendarError
        Where two calendars share one name, or a locale is unknown.
    QuestionError
        For an unknown column.

    Examples
    --------
    >>> table = dimension("2025-08-20", "2025-08-20")
    >>> table["date_key"].tolist(), table["calendar_quarter_label"].tolist()
    ([20250820], ['2025-Q3'])
    """
    span = Span(first, last)
    given = [calendars] if isinstance(calendars, Calendar) else list(calendars or ())
    given = given or [MonthCalendar()]
    _check_names(given)
    worked = workdays or Workdays()
    names = Names() if locale == "en" else _names_of(locale)
    today = None if as_of is None else as_of_day(as_of)
    entries = catalogue(given, relative=today is not None)
    sheets = {c.name: Sheet(span, c, worked, names, today) for c in given}
    made = [
        _column(entry, sheets[calendar], prefix)
        for entry, calendar, prefix in _chosen(entries, columns)
    ]
    if unknown_row:
        made = [_with_unknown(column) for column in made]
    described = "; ".join(calendar.describe() for calendar in given)
    told = f"{span.days:,} days from {span.first} to {span.last}, each with {len(made)} attributes."
    meta = {"verb": "dimension", "calendar": described, "coverage": str(span), "headline": told}
    return Table(made, meta | ({} if today is None else {"as_of": str(as_date(today))}))


def _names_of(locale: str) -> Names:
    from eptaro.inputs.locales import locale_names

    return locale_names(locale)


Entry = tuple[Attribute, str, str]  # the attribute, its calendar's name, its column prefix


def catalogue(calendars: Sequence[Calendar], *, relative: bool = False) -> list[Entry]:
    """Return every attribute that a dimension with these calendars can have, in order."""
    head = calendars[0].name
    entries = [(entry, head, "") for entry in DAY_ATTRIBUTES]
    if relative:
        entries += [(entry, head, "") for entry in DAY_RELATIVE]
    for calendar in calendars:
        own = calendar_attributes(calendar.levels)
        if relative:
            own += relative_attributes(calendar.levels)
        entries += [(entry, calendar.name, f"{calendar.name}_") for entry in own]
    return entries


def _check_names(calendars: list[Calendar]) -> None:
    names = [calendar.name for calendar in calendars]
    for name in names:
        if names.count(name) > 1:
            raise CalendarError(f"two calendars are called {name!r}; give each its own name")


def _chosen(entries: list[Entry], columns: str | Sequence[str]) -> Iterable[Entry]:
    if isinstance(columns, str):
        if columns not in COLUMN_SETS:
            raise QuestionError(unknown("column set", columns, COLUMN_SETS))
        relative = {*DAY_RELATIVE}
        return [
            entry
            for entry in entries
            if columns == "all"
            or columns in entry[0].in_sets
            or (columns == "standard" and (entry[0] in relative or "as_of" in entry[0].name))
        ]
    by_name = {prefix + entry.name: (entry, name, prefix) for entry, name, prefix in entries}
    for wanted in columns:
        if wanted not in by_name:
            raise QuestionError(unknown("column", wanted, by_name))
    return [by_name[wanted] for wanted in columns]


def _column(entry: Attribute, sheet: Sheet, prefix: str) -> Column:
    """Return an attribute's column, blank where the calendar does not know the day."""
    limits = sheet.calendar.limits
    if not prefix or limits is None or sheet.span in limits:
        return entry.column(sheet, prefix)
    known = sheet.span.overlap(limits)
    count = sheet.span.days
    if known is None:
        return Column.of(
            prefix + entry.name,
            entry.kind,
            np.zeros(count, np.int32),
            np.zeros(count, bool),
            choices=np.array([""]),
            unit=entry.unit,
            description=entry.description,
        )
    part = entry.column(replace(sheet, span=known), prefix)
    before = known.lo - sheet.span.lo
    return _padded(part, before, count - before - known.days)


def _padded(column: Column, before: int, after: int) -> Column:
    valid = np.pad(~column.blank, (before, after))
    return Column.of(
        column.name,
        column.kind,
        np.pad(column.data, (before, after)),
        valid,
        choices=column.choices,
        unit=column.unit,
        description=column.description,
    )


def _with_unknown(column: Column) -> Column:
    """Return the column with a first row for the unknown date: key 0, else blank."""
    padded = _padded(column, 1, 0)
    if column.name != "date_key":
        return padded
    return replace(padded, valid=None)
