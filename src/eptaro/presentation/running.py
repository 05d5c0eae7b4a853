"""Headlines of recaps, running totals, windows and cards."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.calendars.days import Flags, Ints, as_date
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import Value, ViewLineage, value_of
from eptaro.core.query.view import View
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.core.results.display import BLANK
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Accumulate, Recap, Trail
from eptaro.core.verbs.recap.periods import spans_of
from eptaro.errors import count_noun
from eptaro.presentation.words import (
    Days,
    as_title,
    format_value,
    group_named,
    group_noun,
    largest_of,
    measures_told,
    sentence,
    uncovered,
    value_over,
)


def describe_recap(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of a recap."""
    query = answer.question
    assert isinstance(query, Recap)
    return " ".join(_sentences(answer, query))


def _sentences(answer: ViewLineage, query: Recap) -> Iterator[str]:
    view = answer.view
    first, last, complete, labelling = spans_of(view, query.per)
    labels = [str(label) for label in labelling()]
    seen = Days(view.seen.lo, view.seen.hi)
    when = f"in {labels[0]}" if len(labels) == 1 and complete[0] else f"from {seen}"
    for number, measure in enumerate(measures_told(answer)):
        total = value_over(view, measure, seen)
        yield f"{as_title(measure.name)}{'' if number else ' ' + when}: {format_value(total)}."
        if number or total.kind in NO_NUMBERS:
            continue
        if len(labels) > 1:
            yield from _highest(view, measure, query.per, (first, last, complete), labels)
        yield from largest_group(answer, measure, seen)
        if complete[-1]:
            continue
        why = uncovered(view, int(first[-1]), int(last[-1]))
        if len(labels) == 1 and why:
            yield f"{labels[-1]} is not complete: {why}."
        elif len(labels) > 1:
            yield f"The last, {labels[-1]}, is not complete{': ' if why else ''}{why}."


def _highest(
    view: View, measure: Measure, per: str, spans: tuple[Ints, Ints, Flags], labels: list[str]
) -> Iterator[str]:
    first, last, complete = spans
    whole = view.together() if view.groups.count > 1 else view
    values = whole.value(measure, np.zeros(len(first), np.int64), first, last)
    at = largest_of(values.numbers())
    if at is None:
        return
    level = per if per in LEVELS else "period"
    rest = "" if complete[at] else ", though it is not complete"
    highest = f"The highest of {count_noun(len(labels), level)} is {labels[at]}"
    yield f"{highest}: {format_value(values, at)}{rest}."


def largest_group(answer: ViewLineage, measure: Measure, days: Days) -> Iterator[str]:
    """Name the largest group over some days, and its share where values add up."""
    view = answer.view
    count = view.groups.count
    if count < 2:
        return
    group = np.arange(count)
    same = np.zeros(count, np.int64)
    values = view.value(measure, group, same + days.first, same + days.last)
    if values.kind in NO_NUMBERS:
        return
    picked = np.ones(count, bool) if view.others is None else ~view.others
    numbers = np.where(picked, values.numbers(), np.nan)
    at = largest_of(numbers)
    if at is None:
        return
    names = (column.to_list()[0] for column in view.groups.columns(np.array([at])))
    name = ", ".join(BLANK if word is None else str(word) for word in names)
    whole = np.nansum(values.numbers())
    share = ""
    if measure.additive_plane is not None and whole > 0 and np.nanmin(values.numbers()) >= 0:
        ratio = Column.of("", "float", [numbers[at] / whole], unit="share")
        share = f" ({format_value(ratio)})"
    noun = group_noun(answer)
    among = f" of {count:,}" if view.others is None else ""
    yield f"Largest {noun}{among}: {name}, {format_value(values, at)}{share}."


def _last_row(answer: ViewLineage, name: str) -> tuple[Value, int, Days] | None:
    """Return the value behind a column in the row with the last day, its place and its days."""
    if name not in answer.numbers or not len(answer.rows):
        return None
    value = value_of(answer.numbers[name])
    place = int(answer.rows[int(np.argmax(value.side.last[answer.rows]))])
    return value, place, Days(int(value.side.first[place]), int(value.side.last[place]))


def describe_accumulate(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of running totals."""
    query = answer.question
    assert isinstance(query, Accumulate)
    return " ".join(_accumulated(answer, query))


def _accumulated(answer: ViewLineage, query: Accumulate) -> Iterator[str]:
    for number, measure in enumerate(measures_told(answer)):
        found = _last_row(answer, f"{measure.name}_to_date")
        if found is None:
            return
        _, _, days = found
        when, span, calendar = f" from {days}", "", answer.view.calendar
        if query.within in calendar.levels:
            index = calendar.index_of(np.array([days.last]), query.within)
            over = int(calendar.last_days(index, query.within)[0]) == days.last
            when = f" in {calendar.labels(index, query.within)[0]}{'' if over else ' to date'}"
            span = f" ({days}, {count_noun(days.count, 'day')})"
        value = value_over(answer.view, measure, days)
        yield f"{as_title(measure.name)}{'' if number else when}: {format_value(value)}" + (
            "." if number else f"{span}."
        )
        if not number and value.kind not in NO_NUMBERS:
            yield from largest_group(answer, measure, days)


def describe_trail(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of rolling windows."""
    query = answer.question
    assert isinstance(query, Trail)
    return " ".join(_trailed(table, answer, query))


def _trailed(table: Result, answer: ViewLineage, query: Trail) -> Iterator[str]:
    for number, measure in enumerate(measures_told(answer)):
        name = f"{measure.name}_trailing"
        found = _last_row(answer, name)
        if found is None:  # a weighted mean has no days of its own
            yield from _weighted(table, answer, query, name, as_title(measure.name))
            continue
        value, place, days = found
        end = Days(days.last, days.last)
        over = f" over the {query.amount} to {end}" if query.ahead is None else f" over {days}"
        if value.picked is not None:  # each group counts its own entries or active days
            yield from _of_one_group(table, answer, place, name, as_title(measure.name) + over)
            return
        words = format_value(value_over(answer.view, measure, days))
        begins = "" if number or query.ahead else f" ({days}, {count_noun(days.count, 'day')})"
        yield f"{as_title(measure.name)}{'' if number else over}: {words}{begins}."
        if not number:
            yield from largest_group(answer, measure, days)
            if why := uncovered(answer.view, days.first, days.last):
                yield f"That window is not complete: {why}."


def _of_one_group(
    table: Result, answer: ViewLineage, place: int, name: str, begin: str
) -> Iterator[str]:
    """Yield the value of the one group, or the largest of several on the same day."""
    if name not in table or "date" not in table:
        return
    last = table.column("date").data
    rows = np.flatnonzero(last == last[np.flatnonzero(answer.rows == place)[0]])
    at = largest_of(table.column(name).take(rows).numbers())
    if at is not None:
        of = f", the largest: {group_named(answer, rows[at])}" if len(rows) > 1 else ""
        yield f"{begin}{of}: {format_value(table.column(name), rows[at])}."


def _weighted(
    table: Result, answer: ViewLineage, query: Trail, name: str, title: str
) -> Iterator[str]:
    if name in table and "date" in table:
        row = int(np.argmax(table.column("date").data))
        begin = f"{title}, the weighted mean over the {query.amount} to "
        begin += str(table.column("date").to_list()[row])
        yield from _of_one_group(table, answer, int(answer.rows[row]), name, begin)


def describe_card(table: Result, answer: ViewLineage) -> str:
    """Return the sentence of a card: the first measure to date in each period.

    Where it has periods of several calendars, these are of the book's own, or of the first.
    """
    if not {"period", "first", "last"} <= {*table.names}:
        return ""
    view, measure = answer.view, answer.view.facts.measures[0]
    periods = table.column("period").to_list()
    levels = table.column("level").to_list() if "level" in table else periods
    names = table.column("calendar").to_list() if "calendar" in table else [""] * len(periods)
    ends = zip(table.column("first").data, table.column("last").data, strict=True)
    own = view.calendar.name if view.calendar.name in names else next(iter(names), "")
    spans = {
        level: Days(*map(int, end))
        for level, name, end in zip(levels, names, ends, strict=True)
        if name == own
    }
    parts = (f"{lv} {format_value(value_over(view, measure, days))}" for lv, days in spans.items())
    where = f" in {own}" if len({*names}) > 1 else ""
    when = f"to date as of {as_date(view.today)}{where}"
    words = f"{as_title(measure.name)} {when}: {', '.join(parts)}."
    return f"{words} {sentence(view.data_age)}".rstrip()
