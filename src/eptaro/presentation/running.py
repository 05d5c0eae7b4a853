"""The headlines of running totals, rolling windows and cards: where they stand on the last day."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.calendars.days import as_date
from eptaro.core.questions.answer import Answered, Value, value_of
from eptaro.core.tables.column import NO_NUMBERS
from eptaro.core.tables.result import Result
from eptaro.core.verbs.queries import Accumulate, Trail
from eptaro.presentation.recapped import largest_group
from eptaro.presentation.words import (
    Days,
    counted,
    group_named,
    largest_of,
    measures_told,
    said,
    sentence,
    titled,
    uncovered,
    value_over,
)


def _last_row(answer: Answered, name: str) -> tuple[Value, int, Days] | None:
    """Return the value behind a column in the row with the last day, its place and its days."""
    if name not in answer.numbers or not len(answer.rows):
        return None
    value = value_of(answer.numbers[name])
    place = int(answer.rows[int(np.argmax(value.side.last[answer.rows]))])
    return value, place, Days(int(value.side.first[place]), int(value.side.last[place]))


def accumulated(table: Result, answer: Answered) -> str:
    """Return the sentences of running totals."""
    asked = answer.question
    assert isinstance(asked, Accumulate)
    return " ".join(_accumulated(answer, asked))


def _accumulated(answer: Answered, asked: Accumulate) -> Iterator[str]:
    for number, measure in enumerate(measures_told(answer)):
        found = _last_row(answer, f"{measure.name}_to_date")
        if found is None:
            return
        _, _, days = found
        when, span, calendar = f" from {days}", "", answer.view.calendar
        if asked.within in calendar.levels:
            index = calendar.index_of(np.array([days.last]), asked.within)
            over = int(calendar.last_days(index, asked.within)[0]) == days.last
            when = f" in {calendar.labels(index, asked.within)[0]}{'' if over else ' to date'}"
            span = f" ({days}, {counted(days.count, 'day')})"
        value = value_over(answer.view, measure, days)
        yield f"{titled(measure.name)}{'' if number else when}: {said(value)}" + (
            "." if number else f"{span}."
        )
        if not number and value.kind not in NO_NUMBERS:
            yield from largest_group(answer, measure, days)


def trailed(table: Result, answer: Answered) -> str:
    """Return the sentences of rolling windows."""
    asked = answer.question
    assert isinstance(asked, Trail)
    return " ".join(_trailed(table, answer, asked))


def _trailed(table: Result, answer: Answered, asked: Trail) -> Iterator[str]:
    for number, measure in enumerate(measures_told(answer)):
        name = f"{measure.name}_trailing"
        found = _last_row(answer, name)
        if found is None:  # a weighted mean has no days of its own
            yield from _weighted(table, answer, asked, name, titled(measure.name))
            continue
        value, place, days = found
        end = Days(days.last, days.last)
        over = f" over the {asked.amount} to {end}" if asked.ahead is None else f" over {days}"
        if value.picked is not None:  # each group counts its own entries or active days
            yield from _of_one_group(table, answer, place, name, titled(measure.name) + over)
            return
        told = said(value_over(answer.view, measure, days))
        begins = "" if number or asked.ahead else f" ({days}, {counted(days.count, 'day')})"
        yield f"{titled(measure.name)}{'' if number else over}: {told}{begins}."
        if not number:
            yield from largest_group(answer, measure, days)
            if why := uncovered(answer.view, days.first, days.last):
                yield f"That window is not complete: {why}."


def _of_one_group(
    table: Result, answer: Answered, place: int, name: str, begin: str
) -> Iterator[str]:
    """Tell the value of the one group, or the largest of several on the same day."""
    if name not in table or "date" not in table:
        return
    last = table.column("date").data
    rows = np.flatnonzero(last == last[np.flatnonzero(answer.rows == place)[0]])
    at = largest_of(table.column(name).take(rows).numbers())
    if at is not None:
        of = f", the largest: {group_named(answer, rows[at])}" if len(rows) > 1 else ""
        yield f"{begin}{of}: {said(table.column(name), rows[at])}."


def _weighted(
    table: Result, answer: Answered, asked: Trail, name: str, title: str
) -> Iterator[str]:
    if name in table and "date" in table:
        row = int(np.argmax(table.column("date").data))
        begin = f"{title}, the weighted mean over the {asked.amount} to "
        begin += str(table.column("date").to_list()[row])
        yield from _of_one_group(table, answer, int(answer.rows[row]), name, begin)


def carded(table: Result, answer: Answered) -> str:
    """Return the sentence of a card: the first measure to date in each period."""
    if not {"period", "first", "last"} <= {*table.names}:
        return ""
    measure = answer.view.facts.measures[0]
    view, periods = answer.view, table.column("period").to_list()
    ends = zip(table.column("first").data, table.column("last").data, strict=True)
    spans = {period: Days(*map(int, end)) for period, end in zip(periods, ends, strict=True)}
    parts = (f"{period} {said(value_over(view, measure, days))}" for period, days in spans.items())
    told = f"{titled(measure.name)} to date as of {as_date(view.today)}: {', '.join(parts)}."
    return f"{told} {sentence(view.data_age)}".rstrip()
