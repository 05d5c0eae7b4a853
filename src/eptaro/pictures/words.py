"""Words and numbers in pictures: shortened, thinned out, never one over the other."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.tables.column import Column
from eptaro.core.tables.display import shown

_STEPS = (1, 2, 3, 4, 6, 12, 13, 24, 26, 52, 104, 156, 260, 520, 1300, 5200)
_OPENS = re.compile(r"(\d{4}|-H1|-Q1|-M01|-01|-W01)$")
_SCALES = ((1e12, "T"), (1e9, "B"), (1e6, "M"), (1e3, "k"))


def elided(text: str, most: int = 26) -> str:
    """Return a text of at most so many letters, its middle left out where it is longer.

    >>> elided("The Very Long Name of a Harbour", 15)
    'The Ver…Harbour'
    """
    if len(text) <= most:
        return text
    head = (most - 1) // 2
    return f"{text[:head]}…{text[len(text) - (most - 1 - head) :]}"


def compact(value: float, column: Column | None = None) -> str:
    """Return a number short enough for an axis, with its column's sign or percent.

    >>> compact(1_250_000), compact(-300), compact(0.5)
    ('1.25M', '-300', '0.5')
    """
    form = column.format if column is not None else None
    if (form and form.percent) or (column is not None and column.unit in ("share", "ratio")):
        return f"{100 * value:,.4g}%"
    sign = form.sign if form else ""
    minus, size = ("-" if value < 0 else ""), abs(value)
    for scale, letter in _SCALES:
        if size >= scale * 0.9995:
            return f"{minus}{sign}{size / scale:.3g}{letter}"
    return f"{minus}{sign}{size:.3g}"


def written(column: Column, value: float) -> str:
    """Return a number as the table writes those of a column."""
    like = Column.of("", "float", [value], format=column.format, unit=column.unit)
    if column.kind == "integer" and column.format is None and not column.unit:
        return f"{value:,.0f}"
    return shown(like)[0]


def thinned(labels: Sequence[str], room: float, letter: float = 6.4) -> list[int]:
    """Return the places of the labels that fit side by side in so many dots.

    They keep a steady step and, where it is a wider period's, fall on its first.
    """
    count = len(labels)
    if not count:
        return []
    width = 1.4 * max(map(len, labels)) * letter + 10  # the outermost are written inwards
    fits = max(int(room // width), 1)
    step = next((s for s in _STEPS if count / s <= fits), count)
    opening = next((i for i, label in enumerate(labels) if _OPENS.search(label)), 0)
    return list(range(opening % step, count, step))


def date_marks(calendar: Calendar, lo: int, hi: int, most: int = 16) -> tuple[list[int], list[str]]:
    """Return the days where a calendar's periods begin, of the finest level that fits."""
    span = Span.of(lo, hi)
    if span.days <= most:
        days = list(range(lo, hi + 1))
        return days, calendar.labels(np.array(days), "day").tolist()
    levels = [level for level in ("week", "month", "quarter", "year") if level in calendar.levels]
    for level in levels:
        periods = calendar.periods(span, level)
        if len(periods) <= most:
            break
    step = -(-len(periods) // most)
    picked = [i for i in range(0, len(periods), step) if periods.first[i] >= lo]
    return [int(periods.first[i]) for i in picked], [str(periods.labels[i]) for i in picked]
