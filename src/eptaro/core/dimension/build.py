"""`dimension`: the table with one row per day and its attributes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import cache

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import DateLike, Flags, Ints, as_date, as_of_day
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.dimension.attribute import Attribute, Compute, Sheet, flag_values, integer_values
from eptaro.core.dimension.of_calendar import calendar_attributes
from eptaro.core.dimension.of_day import DAY_ATTRIBUTES
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.errors import CalendarError, QuestionError, unknown


def _as_of(sheet: Sheet) -> Ints:
    return np.array([sheet.span.lo if sheet.as_of is None else sheet.as_of])


def _periods_away(sheet: Sheet, level: str) -> Ints:
    """Whole periods from the one that holds the as-of date, per period of the sheet."""
    return sheet.periods(level).index - sheet.calendar.index_of(_as_of(sheet), level)


def _offset(level: str) -> Compute:
    return lambda sheet: integer_values(_periods_away(sheet, level)[sheet.places(level)])


def _is_current(level: str) -> Compute:
    return lambda sheet: flag_values((_periods_away(sheet, level) == 0)[sheet.places(level)])


def _is_to_date(level: str) -> Compute:
    """Whether a day comes no later in its period than the as-of date in its own.

    The cut in each period is the counterpart of the as-of date there, as `compare` to
    date would set it.
    """

    def compute(sheet: Sheet) -> Column:
        periods, today = sheet.periods(level), _as_of(sheet)
        now = sheet.calendar.index_of(today, level)
        begin = sheet.calendar.first_days(now, level)
        if level == "week":
            cut = periods.first + (today - begin)
        else:
            steps = periods.index - now
            reach = _steps_within_reach(sheet, steps, level)
            moved = sheet.calendar.move_spans(
                np.repeat(begin, len(steps)),
                np.repeat(today, len(steps)),
                np.where(reach, steps, 0),
                level,
            )
            cut = np.where(reach, moved.last, periods.last)
        return flag_values(sheet.days <= cut[sheet.places(level)])

    return compute


def _steps_within_reach(sheet: Sheet, steps: Ints, level: str) -> Flags:
    """Return which steps from the period of today lead to one; `steps` is `(n_steps,)`."""
    now = sheet.calendar.index_of(_as_of(sheet), level)
    _, exists = sheet.calendar.counterparts(np.repeat(now, len(steps)), level, steps, level)
    return exists


DAY_RELATIVE = (
    Attribute(
        "days_from_as_of",
        "day",
        "integer",
        "Days from the as-of date; 0 is that day",
        lambda sheet: integer_values(sheet.days - _as_of(sheet)),
        "days",
    ),
    Attribute(
        "is_as_of",
        "day",
        "flag",
        "Whether it is the as-of date",
        lambda sheet: flag_values(sheet.days == _as_of(sheet)),
    ),
    Attribute(
        "is_past",
        "day",
        "flag",
        "Whether the day lies before the as-of date",
        lambda sheet: flag_values(sheet.days < _as_of(sheet)),
    ),
)


@cache
def relative_attributes(levels: tuple[str, ...]) -> tuple[Attribute, ...]:
    """Return the relative attributes of a calendar that offers some levels."""
    attributes = []
    for level in levels:
        if level == "day":
            continue
        attributes += [
            Attribute(
                f"{level}s_from_as_of" if level != "half" else "halves_from_as_of",
                level,
                "integer",
                f"Whole {level}s from the current one, 0; negative is past",
                _offset(level),
            ),
            Attribute(
                f"is_current_{level}",
                level,
                "flag",
                f"Whether the {level} holds the as-of date",
                _is_current(level),
            ),
            Attribute(
                f"is_{level}_to_date",
                level,
                "flag",
                f"Whether the day comes no later in its {level} than the as-of date did",
                _is_to_date(level),
            ),
        ]
    return tuple(attributes)


COLUMN_SETS = ("key", "standard", "all")


def dimension(
    first: DateLike,
    last: DateLike,
    *,
    calendars: Calendar | Sequence[Calendar] | None = None,
    columns: str | Sequence[str] = "standard",
    workdays: Workdays | None = None,
    locale: str | Names = "en",
    as_of: DateLike | None = None,
    unknown_row: bool = False,
) -> Result:
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
    locale : str or Names
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
    all_calendars = [calendars] if isinstance(calendars, Calendar) else list(calendars or ())
    all_calendars = all_calendars or [MonthCalendar()]
    _check_calendar_names(all_calendars)
    worked = workdays or Workdays()
    if not isinstance(locale, Names):
        if locale != "en":
            raise CalendarError(f"locale={locale!r}: give its names, or use eptaro.dimension")
        locale = Names()
    today = None if as_of is None else as_of_day(as_of)
    entries = catalogue(all_calendars, relative=today is not None)
    sheets = {c.name: Sheet(span, c, worked, locale, today) for c in all_calendars}
    all_columns = [
        _attribute_column(entry, sheets[calendar], prefix)
        for entry, calendar, prefix in _choose_entries(entries, columns)
    ]
    if unknown_row:
        all_columns = [_with_unknown(column) for column in all_columns]
    described = "; ".join(calendar.describe() for calendar in all_calendars)
    words = f"{span.days:,} days from {span.first} to {span.last}, each with {len(all_columns)} "
    words += "attributes."
    meta = {"verb": "dimension", "calendar": described, "coverage": str(span), "headline": words}
    return Result(all_columns, meta | ({} if today is None else {"as_of": str(as_date(today))}))


Entry = tuple[Attribute, str, str]  # the attribute, its calendar's name, its column prefix


def catalogue(calendars: Sequence[Calendar], *, relative: bool = False) -> list[Entry]:
    """Return every attribute that a dimension with these calendars can have, in order."""
    head = calendars[0].name
    entries = [(entry, head, "") for entry in DAY_ATTRIBUTES]
    if relative:
        entries += [(entry, head, "") for entry in DAY_RELATIVE]
    for calendar in calendars:
        own = calendar_attributes(calendar.levels, tuple(calendar.shown))
        if relative:
            own += relative_attributes(calendar.levels)
        entries += [(entry, calendar.name, f"{calendar.name}_") for entry in own]
    return entries


def unknown_attribute(
    what: str, name: str, entries: Sequence[Entry], others: Iterable[str] = ()
) -> QuestionError:
    """Return the error for a name that no attribute has; a level, or `weekday`, is met by the label
    that says it.
    """
    accepted = [*others, *(prefix + entry.name for entry, _, prefix in entries)]
    meant = {
        entry.name.removesuffix("_label"): prefix + entry.name
        for entry, _, prefix in reversed(entries)  # of several calendars, the first
        if prefix and entry.name.endswith("_label")
    }
    return QuestionError(unknown(what, name, accepted, {**meant, "weekday": "day_name"}))


def _check_calendar_names(calendars: list[Calendar]) -> None:
    names = [calendar.name for calendar in calendars]
    for name in names:
        if names.count(name) > 1:
            raise CalendarError(f"two calendars are called {name!r}; give each its own name")


def _choose_entries(entries: list[Entry], columns: str | Sequence[str]) -> Iterable[Entry]:
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
            raise unknown_attribute("column", wanted, entries)
    return [by_name[wanted] for wanted in columns]


def _attribute_column(entry: Attribute, sheet: Sheet, prefix: str) -> Column:
    """Return an attribute's column, blank where the calendar does not know the day."""
    limits = sheet.calendar.limits
    if not prefix or limits is None or sheet.span in limits:
        return entry.column(sheet, prefix)
    within_limits = sheet.span.overlap(limits)
    count = sheet.span.days
    if within_limits is None:
        return Column.of(
            prefix + entry.name,
            entry.kind,
            np.zeros(count, np.int32),
            np.zeros(count, bool),
            choices=np.array([""]),
            unit=entry.unit,
            description=entry.description,
        )
    part = entry.column(replace(sheet, span=within_limits), prefix)
    before = within_limits.lo - sheet.span.lo
    return _pad_column(part, before, count - before - within_limits.days)


def _pad_column(column: Column, before: int, after: int) -> Column:
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
    padded = _pad_column(column, 1, 0)
    if column.name != "date_key":
        return padded
    return replace(padded, valid=None)
