"""`why_blank`: why some values of an answer are blank, a line for each reason."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from eptaro.core.aggregation.cells import BY_TIME, Plane
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.query.lineage import Change, Mean, TracedNumber, Value, ViewLineage
from eptaro.core.results.result import Result
from eptaro.errors import count_noun
from eptaro.presentation.words import uncovered

_MOST = 3  # spans whose missing days are named one by one


def why_blank(table: Result) -> list[str]:
    """Return the reasons why values are blank, each with the number of rows that it holds for.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18", "2025-10-20"], "fare": [7, 5]}, date="on",
    ...                   measures="typical=mean(fare)")
    >>> why_blank(book.recap("month"))
    ['1 row: no transaction has a value in these days']
    """
    answer = table.answer
    if not isinstance(answer, ViewLineage):
        return []
    reasons: dict[str, Flags] = {}
    changes = {
        id(number.now): ~table.column(name).blank
        for name, number in answer.numbers.items()
        if isinstance(number, Change) and not number.ratio and name in table
    }
    for name, number in answer.numbers.items():
        if name not in table:
            continue
        blank = table.column(name).blank
        if not blank.any():
            continue
        for reason, holds in _reasons(answer, number, changes):
            rows = blank & holds
            if rows.any():
                blank = blank & ~holds
                reasons[reason] = reasons.get(reason, np.zeros(len(table), bool)) | rows
                if not blank.any():
                    break
    return [f"{count_noun(int(rows.sum()), 'row')}: {reason}" for reason, rows in reasons.items()]


def _reasons(
    answer: ViewLineage, number: TracedNumber, changes: Mapping[int, Flags]
) -> Iterator[tuple[str, Flags]]:
    """Yield reasons and the rows for which each may hold, the first that holds being the one.

    `changes` says for the current value of each change where that change is known.
    """
    every = np.ones(len(answer.rows), bool)
    match number:
        case Change():
            for value in _values(number):
                yield from _of_days(answer, value, whole=True)
            if number.ratio and id(number.now) in changes:
                yield "the prior value is 0", changes[id(number.now)]
        case Value():
            yield from _of_days(answer, number, whole=number.stated is not None)
            yield from _undecided_reasons(answer, number)
        case Mean():
            for value in number.values:
                yield from _of_days(answer, value, whole=False)
    yield "no transaction has a value in these days", every


def _earliest_spans(first: Ints, last: Ints) -> Iterator[tuple[int, int]]:
    """Yield the different spans that begin first, of `(n_spans,)`."""
    for _ in range(_MOST):
        if not len(first):
            return
        begins = int(first.min())
        ends = int(last[first == begins].min())
        yield begins, ends
        others = (first != begins) | (last != ends)
        first, last = first[others], last[others]


def _undecided_reasons(answer: ViewLineage, value: Value) -> Iterator[tuple[str, Flags]]:
    """Yield where a first or last value is blank as only the order of rows would decide."""
    view, rows = value.view, answer.rows
    if value.picked is not None or not view.describe_ties():
        return
    group, first, last = (
        np.asarray(part)[rows] for part in (value.group, value.side.first, value.side.last)
    )
    for term in value.measure.terms:
        if term.how in BY_TIME and term.inner is None:
            own = view.table(term.table)
            lo, hi = own.cells.axis.bounds(group, first, np.minimum(last, own.coverage.hi))
            plane = Plane(BY_TIME[term.how], term.column)
            _, begins, ends = own.cells.items(plane, lo, hi)
            yield "several groups share the deciding time", ends > begins


def _values(change: Change) -> Iterator[Value]:
    yield change.now
    yield from change.before.values if isinstance(change.before, Mean) else (change.before,)


def _of_days(answer: ViewLineage, value: Value, *, whole: bool) -> Iterator[tuple[str, Flags]]:
    """Yield what may be wrong with the days of a value: none there, or not known."""
    rows, side = answer.rows, value.side
    prior = side.name.startswith("prior")
    what = "the prior period" if prior else "the period"
    if side.exists is not None:
        yield f"there is no {what.removeprefix('the ')}", ~np.asarray(side.exists[rows])
    first, last = np.asarray(side.first[rows]), np.asarray(side.last[rows])
    reason = ""
    for name in value.measure.tables:
        view = answer.view.table(name)
        coverage = view.coverage
        reason = f"{name or 'the data'} covers only {coverage.first} to {coverage.last}"
        if view.data_age:
            yield f"{what} is after the data: {view.data_age}", first > coverage.hi
        outside = (last < coverage.lo) | (first > coverage.hi)
        yield f"{what} is outside the coverage: {reason}", outside
    names = value.measure.tables
    dated = any(answer.view.table(name).facts.folded.grain != "day" for name in names)
    if whole or (len(names) > 1 and dated):  # periods of a book need whole ones of the others
        partly = ~answer.view.complete(first, last, np.asarray(answer.group[rows]))
        for begins, ends in _earliest_spans(first[partly], last[partly]):
            why = uncovered(answer.view, begins, ends)
            if why:
                yield f"{what} is not complete: {why}", (first == begins) & (last == ends)
        yield f"{what} is not complete: {reason}", partly
