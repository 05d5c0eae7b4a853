"""Day ordinals and civil dates, both ways.

A day ordinal is the number of days since 1970-01-01 in the proleptic Gregorian
calendar (ISO 8601), from 0001-01-01 to 9999-12-31. Columns of days are int32;
intermediate arithmetic is int64.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from eptaro.errors import DateError

Ints: TypeAlias = NDArray[np.int64]


Days: TypeAlias = NDArray[np.integer[Any]]


Flags: TypeAlias = NDArray[np.bool_]


DateLike: TypeAlias = "str | dt.date | np.datetime64"


_EPOCH = dt.date(1970, 1, 1).toordinal()


FIRST_DAY = dt.date.min.toordinal() - _EPOCH


LAST_DAY = dt.date.max.toordinal() - _EPOCH


_ISO = re.compile(r"\d{4}-\d{2}-\d{2}")


def ordinal(value: DateLike) -> int:
    """Return the day ordinal of one date: a `date`, `datetime64` or ISO text.

    Raises `DateError` for anything else; a number is refused because it might
    be an ordinal, a serial or yyyymmdd.

    >>> ordinal("1970-01-02"), ordinal(dt.date(1969, 12, 31))
    (1, -1)
    """
    if isinstance(value, np.datetime64):
        if np.isnat(value):
            raise DateError("the date is blank (NaT)")
        return within_range(int(value.astype("datetime64[D]").astype(np.int64)))
    if isinstance(value, dt.date):  # datetime is a date as well
        return value.toordinal() - _EPOCH
    if isinstance(value, str):
        text = value.strip()
        if not _ISO.fullmatch(text):
            raise DateError(f"{value!r} is not an ISO date; write it as 2025-08-20")
        try:
            return dt.date.fromisoformat(text).toordinal() - _EPOCH
        except ValueError:
            raise DateError(f"{value!r} does not exist in the calendar") from None
    raise DateError(f"{value!r} is not a date; give ISO text, datetime.date or numpy.datetime64")


def as_of_day(value: DateLike) -> int:
    """Return the day ordinal of an as-of date: a date, the text `today`, or a month such as
    `2025-01`, of which the last day is meant.
    """
    if isinstance(value, str):
        if value == "today":
            return ordinal(dt.date.today())
        if re.fullmatch(r"\d{4}-(0[1-9]|1[0-2])", value, re.ASCII):
            first = ordinal(f"{value}-01")
            return int(month_starts(civil_months(np.array([first])) + 1)[0]) - 1
    return ordinal(value)


def ordinals(values: ArrayLike | Sequence[DateLike]) -> Ints:
    """Return the day ordinals of many dates (datetime64, `date` objects or ISO text)."""
    array = np.asarray(values)
    if array.dtype.kind == "M":
        if np.isnat(array).any():
            row = int(np.flatnonzero(np.isnat(array.ravel()))[0])
            raise DateError(f"the date at position {row} is blank (NaT)")
        days = array.astype("datetime64[D]").astype(np.int64)
        for edge in (days.min(initial=0), days.max(initial=0)):
            within_range(int(edge))
        return days
    if array.dtype.kind in "OUT":
        flat = [ordinal(value) for value in array.ravel().tolist()]
        return np.array(flat, np.int64).reshape(array.shape)
    raise DateError(f"an array of {array.dtype} is not dates; give datetime64 or ISO text")


def within_range(day: int) -> int:
    """Return the ordinal unchanged, or raise `DateError` outside years 1 to 9999."""
    if not FIRST_DAY <= day <= LAST_DAY:
        raise DateError("the date lies outside the years 1 to 9999")
    return day


def as_date(day: int) -> dt.date:
    """Return the `date` of one day ordinal.

    >>> as_date(0)
    datetime.date(1970, 1, 1)
    """
    return dt.date.fromordinal(within_range(int(day)) + _EPOCH)


def as_dates(days: Days) -> NDArray[np.datetime64]:
    """Return day ordinals as datetime64[D]. `days` has any shape."""
    return days.astype(np.int64).astype("datetime64[D]")


def civil_date(days: Days) -> tuple[Ints, Ints, Ints]:
    """Return civil year, month (1-12) and day (1-31) of day ordinals.

    `days` is `(n,)`, and so are the three results.

    >>> [part.tolist() for part in civil_date(np.array([0, 59]))]
    [[1970, 1970], [1, 3], [1, 1]]
    """
    months = civil_months(days)
    return months // 12 + 1970, months % 12 + 1, days - month_starts(months) + 1


def civil_months(days: Days) -> Ints:
    """Return whole civil months since 1970-01 for each day ordinal.

    `days` is `(n,)`, the result `(n,) int64`.
    """
    if days.size > _FEW and (table := _table_of(days)) is not None:
        every, places = table
        return civil_months(every)[places]
    return as_dates(days).astype("datetime64[M]").astype(np.int64)


def month_starts(months: Ints) -> Ints:
    """Return the day ordinal of the 1st of each civil month counted since 1970-01.

    `months` is `(n,)`, the result `(n,) int64`.

    >>> month_starts(np.array([0, 1, -1])).tolist()
    [0, 31, -31]
    """
    if months.size > _FEW and (table := _table_of(months)) is not None:
        every, places = table
        return month_starts(every)[places]
    return months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)


_FEW = 1_000  # values, for which a table does not pay: NumPy converts a date in about 15 ns


def _table_of(values: Days) -> tuple[Ints, Days] | None:
    """Return all whole numbers between the least and the largest, and the place of each value among
    them; None where they are not much fewer.

    `values` is `(n,)`, and so are the places.
    """
    least, most = int(values.min()), int(values.max())
    if most - least >= values.size // 2:
        return None
    return np.arange(least, most + 1, dtype=np.int64), values - least


def weekday(days: Days) -> Ints:
    """Return the weekday, 0 = Monday to 6 = Sunday (1970-01-01 was a Thursday).

    `days` is `(n,)`, the result `(n,) int64`.
    """
    return (days.astype(np.int64) + 3) % 7


def add_months(days: Days, months: int | Ints) -> tuple[Ints, Flags]:
    """Move days by whole civil months, keeping the day number, clamped to the month's end.

    `days` is `(n,)`, and so are the results: the days moved, and where they were clamped.

    Returns the moved ordinals and a flag where the day number had to be cut short.

    >>> moved, clamped = add_months(np.array([ordinal("2024-01-31")]), 1)
    >>> as_date(moved[0]).isoformat(), bool(clamped[0])
    ('2024-02-29', True)
    """
    start = civil_months(days)
    place = days - month_starts(start)
    target = start + months
    opens = month_starts(target)
    room = month_starts(target + 1) - opens - 1
    return opens + np.minimum(place, room), place > room


def mondays(year: Ints, week: Ints) -> tuple[Ints, Flags]:
    """Return the Mondays of ISO weeks, shape (weeks,), and which exist: a year has 52 or 53.

    The first is the one with the year's first Thursday (ISO 8601).

    >>> days, exist = mondays(np.array([2020, 2021]), np.array([53, 53]))
    >>> days.tolist(), exist.tolist()
    ([18624, 18995], [True, False])
    """
    inside = (year >= 1) & (year <= 9999)
    fourth = month_starts(np.where(inside, year - 1970, 0) * 12) + 3
    monday = fourth - weekday(fourth) + 7 * (week - 1)
    return monday, inside & (week >= 1) & (civil_months(monday + 3) // 12 + 1970 == year)
