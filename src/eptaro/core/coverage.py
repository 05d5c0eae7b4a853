"""The days that a book speaks for, and what narrows it where a database folds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from eptaro.core.cells import Cells
from eptaro.core.days import as_date
from eptaro.core.errors import InputError, QuestionError
from eptaro.core.measures import Plane
from eptaro.core.span import Span


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
        outside = cells.total(Plane("rows"), cells.axis.first_day, span.lo - 1) + cells.total(
            Plane("rows"), span.hi + 1, last
        )
        raise InputError(
            f"{source}: {outside:,} rows lie outside coverage={span}; the data runs from "
            f"{as_date(cells.axis.first_day)} to {as_date(last)}. Widen the coverage, or narrow a "
            f"question with only="
        )
    return span
