"""Axes of time: ticks on the first days of periods, named by month and year."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints, as_date, as_dates
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.calendars.span import Span
from eptaro.record import Record, record

_LETTER = 7.6  # dots


@record
class Marks(Record):
    """Places on an axis and their words; the second line names the year where it begins."""

    places: list[float]
    words: list[str]

    def fit(self, room: float, lo: float, hi: float) -> Marks:
        """Return marks whose words do not touch on an axis of so many dots, the outermost ones
        written inwards.
        """
        per_dot = (hi - lo) / max(room, 1.0)
        fitting, ended = list[int](), -np.inf
        for at, (place, word) in enumerate(zip(self.places, self.words, strict=True)):
            half = max(map(len, word.split("\n"))) * _LETTER / 2 * per_dot
            start = min(max(place - half, lo), max(hi - 2 * half, lo))
            if start >= ended:
                fitting.append(at)
                ended = start + 2 * half + 10 * per_dot
        return Marks([self.places[i] for i in fitting], [self.words[i] for i in fitting])


def month_named(first: int) -> str:
    """Return the name of the month that begins on a day: `Apr`, or `10 Sep` within one."""
    day = as_date(first)
    return f"{day:%b}" if day.day == 1 else f"{day.day} {day:%b}"


def _word_of_period(calendar: Calendar, level: str, first: int, label: str) -> str:
    """Return what a period is called below an axis, its year apart."""
    if level == "year":
        return label
    if level == "day":
        return f"{as_date(first).day} {as_date(first):%b}"
    if level == "week":
        return f"{as_date(first).day} {as_date(first):%b}"
    if level == "month":
        return month_named(first)
    return label.rpartition("-")[2]


def period_words(calendar: Calendar, level: str, first: Ints, labels: Sequence[str]) -> list[str]:
    """Return the words of periods in a row; the year is below the first one of each."""
    if level not in LEVELS:
        return list(labels)
    if level in calendar.shown:
        return [calendar.shown_label(label) for label in labels]
    words, last = list[str](), None
    for day, label in zip(first.tolist(), labels, strict=True):
        word = _word_of_period(calendar, level, day, str(label))
        year = _year_of(calendar, level, day)
        words.append(word if year == last or level == "year" else f"{word}\n{year}")
        last = year
    return words


def _year_of(calendar: Calendar, level: str, day: int) -> str:
    """Return the year that is below: civil for days and months, else the calendar's."""
    if level in ("day", "week", "month"):
        return f"{as_date(day):%Y}"
    return calendar.period_of(as_date(day), "year").shown


def thinned_periods(
    calendar: Calendar, level: str, first: Ints, labels: Sequence[str], room: float
) -> Marks:
    """Return the marks of periods that are in a row, thinned to a steady step that fits.

    The step falls on the first periods of years where it can.
    """
    count = len(labels)
    if level in ("day", "week") and count * 52 > room:
        return _by_months(calendar, first, room)
    words = period_words(calendar, level, first, labels)
    width = max((len(line) for word in words for line in word.split("\n")), default=1)
    gap = 26 if level in calendar.shown else 10  # the outermost long ones are moved inwards
    fits = max(int(room // (width * _LETTER + gap)), 1)
    step = -(-count // fits)
    steps = {"month": (1, 2, 3, 6, 12), "quarter": (1, 2, 4), "half": (1, 2)}.get(level, (1,))
    step = next((width for width in steps if width >= step), step)
    longest = steps[-1]
    if step > longest > 1:
        step = -(-step // longest) * longest
    start = 0
    if step > 1 and level in ("month", "quarter", "half"):
        years = [_year_of(calendar, level, day) for day in first.tolist()]
        start = next((i for i in range(1, count) if years[i] != years[i - 1]), 0) % step
    at = list(range(start, count, step))
    again = period_words(calendar, level, first[at], [labels[i] for i in at])
    return Marks([float(i) for i in at], again)


def _by_months(calendar: Calendar, first: Ints, room: float) -> Marks:
    """Return marks of many days or weeks at those that begin a month, or a year."""
    stamps = as_dates(first).astype("datetime64[M]")
    opens = np.flatnonzero(np.append(True, stamps[1:] != stamps[:-1]))
    opens = opens[1:] if len(opens) > 1 and as_date(int(first[0])).day > 7 else opens
    fits = max(int(room // 52), 1)
    step = next((s for s in (1, 2, 3, 6, 12) if len(opens) / s <= fits), 12)
    step *= -(-len(opens) // (step * fits))
    months = stamps[opens].astype(int) % 12
    start = next((i for i in range(min(step, len(opens))) if months[i] % min(step, 12) == 0), 0)
    opens = opens[start::step]
    days = stamps[opens].astype("datetime64[D]").astype(np.int64)
    return Marks(
        [float(at) for at in opens], period_words(calendar, "month", days, [""] * len(days))
    )


def day_marks(calendar: Calendar, lo: int, hi: int, room: float) -> Marks:
    """Return marks at the first days of periods between two days, the finest level that fits."""
    span = Span.of(lo, hi)
    if span.days <= 16 and room / span.days > 48:
        days = np.arange(lo, hi + 1)
        labels = [str(day) for day in as_dates(days)]
        return Marks(days.astype(float).tolist(), period_words(calendar, "day", days, labels))
    fits = max(int(room // 52), 2)
    for level in ("week", "month", "quarter", "year"):
        if level not in calendar.levels:
            continue
        periods = calendar.periods(span, level)
        inside = periods.first >= lo
        if inside.sum() <= fits or level == "year":
            first = periods.first[inside]
            labels = [str(label) for label in periods.labels[inside]]
            step = max(-(-len(first) // fits), 1)
            first, labels = first[::step], labels[::step]
            own = level != "quarter" or level in calendar.shown
            words = period_words(calendar, level if own else "month", first, labels)
            return Marks([float(day) for day in first], words)
    return Marks([], [])


def set_marks(page: Any, axes: Any, marks: Marks, lo: float, hi: float) -> None:
    """Set the range of the axis across, and write its marks, the outermost ones inwards."""
    axes.set_xlim(lo, hi)
    wide = page.dots(axes)[0]
    fitted = marks.fit(wide, lo, hi)
    axes.set_xticks(fitted.places, fitted.words, linespacing=1.25)
    per_dot = (hi - lo) / wide
    for place, text in zip(fitted.places, axes.get_xticklabels(), strict=True):
        half = max(map(len, text.get_text().split("\n"))) * _LETTER / 2 * per_dot
        if place - half < lo:
            text.set_ha("left")
        elif place + half > hi:
            text.set_ha("right")
