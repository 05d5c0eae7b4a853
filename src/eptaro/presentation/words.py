"""The parts that sentences are made of: names, numbers, days and changes in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.grain import Grain, first_days
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.view import View
from eptaro.core.results.column import NO_NUMBERS, Column, subtract_columns
from eptaro.core.results.format import BLANK, format_column
from eptaro.errors import show_option
from eptaro.record import Record, record

_NOT_YET = "is after the as-of date"
_FEWEST_DATES = 3  # of which all may begin a month by chance
MOST_MEASURES = 4  # in one headline


@record
class DayRange(Record):
    """An inclusive span of day ordinals."""

    first: int
    last: int

    @property
    def count(self) -> int:
        """How many days it has."""
        return self.last - self.first + 1

    def __str__(self) -> str:
        first, last = as_date(self.first), as_date(self.last)
        return str(first) if first == last else f"{first} to {last}"

    @property
    def when(self) -> str:
        """The days as a sentence has them: on one day, or from the first to the last."""
        return f"{'on' if self.first == self.last else 'from'} {self}"


def name_in_words(name: str) -> str:
    """Return the name of a measure in words.

    >>> name_in_words("load_factor"), name_in_words("sales.entries")
    ('load factor', 'entries of sales')
    """
    data_set, _, own = name.rpartition(".")
    return (f"{own} of {data_set}" if data_set else name).replace("_", " ").strip() or name


def as_title(name: str) -> str:
    """Return the name of a measure as a sentence begins with it.

    >>> as_title("load_factor")
    'Load factor'
    """
    words = name_in_words(name)
    return words[:1].upper() + words[1:]


def sentence(words: str) -> str:
    """Return some words as a sentence of their own; nothing where there are none.

    >>> sentence("the data ends on 2025-08-20")
    'The data ends on 2025-08-20.'
    """
    return f"{words[:1].upper()}{words[1:]}." if words else ""


def format_value(column: Column, row: int = 0) -> str:
    """Return one value as people read it."""
    return format_column(column.take(np.array([row])))[0] or "no value"


def value_over(view: View, measure: Measure, days: DayRange) -> Column:
    """Return a measure over some days, of all groups of a view together: a column of one row."""
    whole = view.together() if view.groups.count > 1 else view
    one = np.zeros(1, np.int64)
    return whole.value(measure, one, one + days.first, one + days.last)


def has_values_apart(view: View, measure: Measure, days: DayRange, together: Column) -> bool:
    """Return whether groups have values over some days, though all together have none: of rows of
    several groups on the last day, none is the last.
    """
    count = view.groups.count
    if count < 2 or not together.blank[0]:
        return False
    same = np.zeros(count, np.int64)
    values = view.value(measure, np.arange(count), same + days.first, same + days.last)
    return not bool(values.blank.all())


def describe_value(answer: ViewLineage, measure: Measure, days: DayRange, together: Column) -> str:
    """Return in words what a measure is over some days, of all groups `together`."""
    if has_values_apart(answer.view, measure, days, together):
        return f"a value for each {group_noun(answer)}"
    return format_value(together)


def uncovered(view: View, first: int, last: int) -> str:
    """Return which days of a span the data does not cover, and the option that would declare them
    covered, ready to paste; empty where all are.

    Days of a span that lies wholly outside are left to whoever knows what happened on them: only
    the ends of spans that are covered in part may be taken for days without transactions.
    """
    if view.tables:
        every = {name: uncovered(own, first, last) for name, own in view.tables.items()}
        ended = [name for name, why in every.items() if why and not why.endswith(_NOT_YET)]
        every = {name: every[name] for name in ended} if ended else every
        return "; ".join(f"{name}: {why}" for name, why in every.items() if why)
    coverage, whole = view.coverage, view.facts.coverage
    parts = []
    if first < coverage.lo:
        parts.append(DayRange(first, min(last, coverage.lo - 1)))
    if last > coverage.hi:
        parts.append(DayRange(max(first, coverage.hi + 1), last))
    if not parts:
        return ""
    message = f"the data does not cover {' or '.join(map(str, parts))}"
    if view.today < whole.hi and last > coverage.hi:
        return f"{DayRange(max(first, coverage.hi + 1), last)} {_NOT_YET}"
    if view.facts.spans is not None or last < coverage.lo or first > coverage.hi:
        return message
    grain = _begun_by_every_date(view)
    if grain is not None:
        return (
            f"{message}; every date is the first day of a {grain}: if each means its {grain}, "
            f"use {show_option('grain', grain)}"
        )
    wide = Span.of(min(first, whole.lo), max(last, whole.hi))
    return f"{message}; if nothing happened then, use {show_option('coverage', str(wide))}"


def _begun_by_every_date(view: View) -> Grain | None:
    """Return the widest periods that all dates of the data begin, where these are days."""
    folded = view.facts.folded
    if folded.grain != "day":
        return None
    ends = np.array([folded.days.lo, folded.days.hi])
    if (first_days(ends, "month") != ends).any():
        return None  # most data shows by its ends alone that they do not
    days = folded.days_with_rows
    if len(days) < _FEWEST_DATES:
        return None
    wide: tuple[Grain, ...] = ("year", "quarter", "month")
    return next((grain for grain in wide if (first_days(days, grain) == days).all()), None)


@record
class Movement(Record):
    """How a value is to the one before: in words, with a sign and the share of it."""

    now: Column
    prior: Column

    @property
    def is_known(self) -> bool:
        """Whether both are numbers that are not blank."""
        numbers = self.now.kind not in NO_NUMBERS and self.prior.kind not in NO_NUMBERS
        return numbers and not any(np.isnan(side.numbers()[0]) for side in (self.now, self.prior))

    def __str__(self) -> str:
        change = subtract_columns(self.now, self.prior)
        size = change.numbers()[0]
        if size == 0:
            return "the same as"
        base = abs(self.prior.numbers()[0])
        ratio = Column.of("", "float", [size / base], unit="ratio") if base > 0 else None
        words = list[str]()
        if ratio is not None and np.isfinite(size / base):
            words.append(format_value(ratio))
        if self.now.lower_is_better:
            words.append("worse" if self.now.is_worse(size) else "better")
        share = f" ({', '.join(words)})" if words else ""
        return f"{'up' if size > 0 else 'down'} {format_value(change).lstrip('-')}{share} on"


def group_named(answer: ViewLineage, row: int) -> str:
    """Return the group of a row of a table, its values separated by commas."""
    group = answer.group[answer.rows[row : row + 1]]
    words = (column.to_list()[0] for column in answer.view.groups.columns(np.asarray(group)))
    return ", ".join(BLANK if word is None else str(word) for word in words)


def headline_measures(answer: ViewLineage) -> Sequence[Measure]:
    """Return the measures that a headline covers."""
    return answer.view.facts.measures[:MOST_MEASURES]


def group_noun(answer: ViewLineage) -> str:
    """Return what a group is called: the name of its column."""
    names = answer.view.groups.names
    return names[0].replace("_", " ") if len(names) == 1 else "group"


def largest_of(sizes: Sequence[Any] | np.ndarray[Any, Any]) -> int | None:
    """Return the place of the largest number, None where there is none."""
    numbers = np.asarray(sizes, np.float64)
    return None if np.isnan(numbers).all() else int(np.nanargmax(numbers))


def calendar_in_words(calendar: Calendar | OwnCalendars) -> str:
    """Return the definition of a calendar, as the beginning of a sentence.

    >>> from eptaro import MonthCalendar
    >>> calendar_in_words(MonthCalendar())
    'Calendar: years from 1 January, ISO 8601 weeks'
    """
    words = calendar.describe()
    return f"C{words[1:]}" if words.startswith("calendar:") else f"Calendar {words}"
