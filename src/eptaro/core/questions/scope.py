"""What a question looks at: the one place where `by`, `only`, `as_of` and `coverage` are read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np

from eptaro.core.calendars.amount import parse_amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import DateLike, as_date
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.planes import ROWS
from eptaro.errors import InputError, QuestionError

By: TypeAlias = "str | Sequence[str] | None"


AsOf: TypeAlias = "DateLike | None"


Only: TypeAlias = "str | Span | Period | Mapping[str, Any] | Sequence[Any] | None"


def group_names(by: By) -> list[str]:
    """Return the group columns that `by` names; raises `QuestionError` for anything else."""
    if by is None or isinstance(by, str):
        return [] if by is None else [by]
    if not isinstance(by, Sequence) or not all(isinstance(name, str) for name in by):
        raise QuestionError(f"by={by!r} names no columns; give one name, or a list of names")
    return list(by)


_RELATIVE = re.compile(r"(this|last)\s+(?:(\d+)\s+)?([a-z]+)")


def relative_span(text: str, calendar: Calendar, today: int) -> Span | None:
    """Return the span of `this year`, `last month` or `last 3 months`, or None.

    `this` is the period that holds the as-of date, `last n` the n whole ones before it.
    """
    found = _RELATIVE.fullmatch(text.strip().lower())
    if not found:
        return None
    amount = parse_amount(f"{found[2] or 1} {found[3]}", "only")
    if amount.level not in calendar.levels:
        raise QuestionError(f"only={text!r}: calendar {calendar.name!r} has no {amount.level}s")
    now = Period(calendar, amount.level, int(calendar.index_of(np.array([today]), amount.level)[0]))
    if found[1] == "this":
        if found[2] not in (None, "1"):
            raise QuestionError(f"only={text!r}: there is one this; say last {amount}")
        return now.span
    first, last = now.shift(-amount.n), now.shift(-1)
    if first is None or last is None:
        raise QuestionError(f"only={text!r} reaches out of the calendar")
    return Span(first.first, last.last)


def narrowed(
    only: Mapping[str, Any] | Span | Sequence[Mapping[str, Any] | Span] | None,
) -> tuple[Span | None, dict[str, Any]]:
    """Return the span and the group values that `only` names for a database."""
    parts = [only] if isinstance(only, Mapping | Span | str) else list(only or ())
    for part in parts:
        if not isinstance(part, Mapping | Span):
            raise QuestionError(
                f"only={part!r}: a database is narrowed by a Span of days and by group values as a "
                f"mapping, such as {{'route': 'Norrow-Fenholm'}}"
            )
    spans = [part for part in parts if isinstance(part, Span)]
    if len(spans) > 1:
        raise QuestionError(f"only names two spans, {spans[0]} and {spans[1]}; give one")
    wanted: dict[str, Any] = {}
    for part in parts:
        if not isinstance(part, Span):
            wanted |= part
    return (spans[0] if spans else None), wanted


def covered(given: Span | str | None, cells: Cells, source: str) -> Span:
    """Return the coverage given, which must hold all the data, or that of the data."""
    last = cells.axis.last_day
    if given is None:
        return Span.of(cells.axis.first_day, last)
    span = Span.parse(given) if isinstance(given, str) else given
    if not isinstance(span, Span):
        raise InputError(f"coverage={span!r} is no span; write 2025-01-01..2025-12-31")
    if not (span.lo <= cells.axis.first_day and last <= span.hi):
        outside = cells.total(ROWS, cells.axis.first_day, span.lo - 1) + cells.total(
            ROWS, span.hi + 1, last
        )
        raise InputError(
            f"{source}: {outside:,} rows lie outside coverage={span}; the data runs from "
            f"{as_date(cells.axis.first_day)} to {as_date(last)}. Widen the coverage, or narrow a "
            f"question with only="
        )
    return span
