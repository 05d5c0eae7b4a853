"""Texts, dates and bands of columns: what is worked out once for each distinct text."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import civil, month_starts, weekday
from eptaro.core.calendars.levels import Names
from eptaro.core.expressions.functions import Kind
from eptaro.core.expressions.numbers import both, compared, filled
from eptaro.core.tables.column import Column

Array = NDArray[Any]


def text_of(value: str) -> Column:
    """Return one text as a column of one row."""
    return Column.text("", np.array([value, None], object)[:1])


def words_of(column: Column) -> list[str]:
    """Return the distinct texts of a column; one of another kind has none."""
    if column.kind != "text" or column.choices is None:
        return []
    return [str(word) for word in column.choices.tolist()]


def codes_of(column: Column) -> Array:
    """Return the code of each row's text; -1 for blank."""
    return column.data if column.kind == "text" else np.full(len(column), -1, np.int32)


def of_words(words: Sequence[str], codes: Array) -> Column:
    """Return the column of texts that codes stand for, each text once."""
    places: dict[str, int] = {}
    target = [places.setdefault(word, len(places)) for word in words]
    numbers = np.array([*target, -1], np.int32)
    return Column.text("", np.array([*places, None], object)[:-1], numbers[codes])


def changed(column: Column, change: Callable[[str], str]) -> Column:
    """Return texts that are each changed."""
    return of_words([change(word) for word in words_of(column)], codes_of(column))


def told(column: Column, tell: Callable[[str], Any], dtype: Any) -> tuple[Array, Array]:
    """Return what is told of each text, and where there is one."""
    answers = np.array([*(tell(word) for word in words_of(column)), 0], dtype)
    codes = codes_of(column)
    return answers[codes], codes >= 0


def ranks(*columns: Column) -> list[Array]:
    """Return the place of each text of several columns among all of them in order of letters."""
    every = sorted({word for column in columns for word in words_of(column)})
    place = {word: at for at, word in enumerate(every)}
    found = []
    for column in columns:
        numbers = np.array([*(place[word] for word in words_of(column)), -1], np.int64)
        found.append(numbers[codes_of(column)])
    return found


def dated(year: Column, month: Column, day: Column) -> Column:
    """Return the dates of three numbers; what is not a day of the calendar is blank."""
    y, m, d = (part.numbers() for part in (year, month, day))
    valid = both(*(filled(part) for part in (year, month, day)))
    with np.errstate(invalid="ignore"):
        good = (y >= 1) & (y <= 9999) & (m >= 1) & (m <= 12) & (d >= 1) & (d <= 31)
        good &= (y % 1 == 0) & (m % 1 == 0) & (d % 1 == 0)
    years, months, days = (
        np.where(good, part, 1).astype(np.int64) for part in np.broadcast_arrays(y, m, d)
    )
    months += (years - 1970) * 12 - 1
    first = month_starts(months)
    good &= days <= month_starts(months + 1) - first
    good = good if valid is None else good & valid
    return Column.of("", "date", np.where(good, first + days - 1, 0), good)


def part_of_date(column: Column, which: str) -> Column:
    """Return the year, month, day or weekday of dates."""
    days = column.data.astype(np.int64)
    if which == "weekday":
        codes = weekday(days).astype(np.int32)
        codes = codes if column.valid is None else np.where(column.valid, codes, -1)
        return Column.text("", np.array([*Names().weekdays], object), codes)
    found = dict(zip(("year", "month", "day"), civil(days), strict=True))[which]
    return Column.of("", "integer", found, column.valid)


def banded(column: Column, edges: Sequence[Decimal]) -> Column:
    """Return the band of each number: `under 0`, `0 to 50` (below 50), ..., `100 and over`."""
    shown = [f"{edge:f}" for edge in edges]
    between = [f"{one} to {two}" for one, two in pairwise(shown)]
    labels = [f"under {shown[0]}", *between, f"{shown[-1]} and over"]
    codes = np.zeros(len(column), np.int32)
    for edge in edges:
        codes += compared(">=", column, number_of(edge))[0]
    valid = filled(column)
    codes = codes if valid is None else np.where(valid, codes, -1).astype(np.int32)
    return Column.text("", np.array(labels, object), codes)


def number_of(value: Decimal) -> Column:
    """Return one exact number as a column of one row."""
    sign, digits, exponent = value.as_tuple()
    assert isinstance(exponent, int)
    units = int("".join(map(str, digits))) * (-1 if sign else 1)
    scale = max(-exponent, 0)
    units *= 10 ** max(exponent, 0)
    kind = "decimal" if scale else "integer"
    return Column.of("", kind, np.array([units], object), scale=scale)  # type: ignore[arg-type]


def of_text(name: str, column: Column) -> Column:
    """Return what `lower`, `upper`, `trim` or `length` make of texts."""
    match name:
        case "lower":
            return changed(column, str.lower)
        case "upper":
            return changed(column, str.upper)
        case "trim":
            return changed(column, str.strip)
        case _:
            return Column.of("", "integer", *told(column, len, np.int64))


def blank_of(kind: Kind, rows: int) -> Column:
    """Return a column of a kind without any value."""
    none = np.zeros(rows, bool)
    match kind:
        case Kind.TEXT:
            return of_words([], np.full(rows, -1))
        case Kind.DATE:
            return Column.of("", "date", np.zeros(rows, np.int32), none)
        case Kind.FLAG:
            return Column.of("", "flag", none, none)
        case _:
            return Column.of("", "integer", np.zeros(rows, np.int64), none)


def one_blank(column: Column) -> Column:
    """Return one blank of a column's kind."""
    if column.kind == "text":
        return blank_of(Kind.TEXT, 1)
    none = np.zeros(1, bool)
    return Column.of(column.name, column.kind, np.zeros(1, np.int64), none, scale=column.scale)
