"""The groups of a picture: a panel for each, or lines of one chart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.query.query import Query
from eptaro.core.query.view import View
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError
from eptaro.plots.page import MOST_PANELS, Page
from eptaro.record import Record, record

AnyQuery = TypeVar("AnyQuery", bound=Query)


def query_of(table: Result, kind: type[AnyQuery]) -> AnyQuery:
    """Return the question of a verb that a table answers; raises `QuestionError` if another's."""
    query = None if table.answer is None else table.answer.question
    if not isinstance(query, kind):
        raise QuestionError(f"this picture takes an answer of {kind.verb}")
    return query


def view_of(table: Result) -> View | None:
    """Return the one view that a table answers from; None where there are several, or none."""
    return table.answer.view if isinstance(table.answer, ViewLineage) else None


def calendar_of(table: Result) -> Calendar:
    """Return the calendar that a table goes by; of several, civil years."""
    calendar = None if table.answer is None else table.answer.calendar
    return MonthCalendar() if calendar is None or "calendar" in table else calendar


def group_names(table: Result) -> list[str]:
    """Return the columns that distinguish groups ."""
    by = () if table.answer is None else table.answer.by
    names = [name for name in by if name in table]
    return [*names, "calendar"] if names and "calendar" in table else names


@record
class Group(Record):
    """One group of a table: its name, its rows, and the colour that it has, None for pale."""

    name: str
    rows: Result
    colour: str | None


def parts_of(
    table: Result, name: str | None, by: Sequence[str] | None = None
) -> list[tuple[str, Result]]:
    """Return each group's name and rows, those with most of a column first if one is named, and all
    that were not picked last; `by` names what distinguishes them  where that is not the groups
    alone."""
    names = group_names(table) if by is None else by
    if not names:
        return [("", table)]
    keys: dict[tuple[Any, ...], list[int]] = {}
    for row, key in enumerate(zip(*(table.column(n).to_list() for n in names), strict=True)):
        keys.setdefault(key, []).append(row)
    parts = [(group_name(key), table.take(np.array(rows))) for key, rows in keys.items()]
    if name is None:
        return parts
    size = [np.nansum(np.abs(part.column(name).numbers())) for _, part in parts]
    others = [part.answer is not None and bool(np.any(part.answer.others)) for _, part in parts]
    return [parts[i] for i in np.lexsort((-np.array(size), np.array(others)))]


def group_name(key: tuple[Any, ...]) -> str:
    """Return a group's name; the blank one is named as such."""
    return ", ".join("(blank)" if word is None else str(word) for word in key)


def groups_of(page: Page, table: Result, name: str) -> list[Group]:
    """Return the groups of one chart, the largest first and in colour, the others pale."""
    colours = page.theme.lines
    parts = parts_of(table, name)
    if len(parts) > len(colours) + 1:
        page.note(f"the {len(colours)} largest of {len(parts)} groups in colour, the others pale")
    else:
        colours = (*colours, page.theme.ink)
    return [
        Group(title, part, colours[at] if at < len(colours) else None)
        for at, (title, part) in enumerate(parts)
    ]


def panels_of(
    page: Page,
    table: Result,
    measures: Sequence[str],
    *,
    ending: str = "",
    same_scale: bool = True,
    left: float = 62,
    right: float = 12,
    above: float = 0,
    by: Sequence[str] | None = None,
    most: int = MOST_PANELS,
) -> Iterator[tuple[Any, Result, str]]:
    """Yield axes, rows and a measure: a panel for each group and measure, the largest group first.

    `ending` makes the name of the column drawn from that of a measure. `by` names what
    distinguishes the panels where that is not the groups, and `above` leaves space for words
    above each. When there are too many panels only the first measure is drawn, and when there
    are too many groups only the largest; the small print says so. Panels have scales of their
    own where measures differ, or one scale would flatten most of them.
    """
    parts = parts_of(table, f"{measures[0]}{ending}", by)
    if len(parts) == 1:
        titles = [name.replace("_", " ") if len(measures) > 1 else "" for name in measures]
        all_axes = page.panels(
            titles, same_scale=False, across=1, left=left, right=right, above=above
        )
        yield from (
            (axes, parts[0][1], name) for axes, name in zip(all_axes, measures, strict=True)
        )
        return
    if len(parts) * len(measures) > most and len(measures) > 1:
        page.note(f"the first of {len(measures)} measures is drawn; choose another with measure=")
        measures = measures[:1]
    if len(parts) > most:
        page.note(f"the {most} largest of {len(parts):,} groups are drawn")
        parts = parts[:most]
    else:
        page.note("the largest group first")
    alone = len(measures) == 1
    same_scale = same_scale and alone and not _is_flattened(parts, f"{measures[0]}{ending}")
    titles = [
        title if alone else f"{title}: {name.replace('_', ' ')}"
        for title, _ in parts
        for name in measures
    ]
    all_axes = page.panels(
        titles,
        same_scale=same_scale,
        across=None if alone else len(measures) * _groups_per_row(parts, measures),
        left=left,
        above=above,
    )
    page.note("one scale for all" if same_scale else "each panel has a scale of its own")
    pairs = [(part, name) for _, part in parts for name in measures]
    for axes, (part, name) in zip(all_axes, pairs, strict=True):
        yield axes, part, name


def _groups_per_row(parts: Sequence[tuple[str, Result]], measures: Sequence[str]) -> int:
    """Return how many groups are side by side, so that measures stay in their columns."""
    return 2 if len(parts) > 4 and len(measures) == 2 else 1


def _is_flattened(parts: Sequence[tuple[str, Result]], name: str) -> bool:
    """Return whether half of the panels would use less than an eighth of a common scale."""
    tops = [np.nanmax(np.abs(part.column(name).numbers()), initial=0.0) for _, part in parts]
    return len(tops) > 1 and float(np.median(tops)) < max(tops) / 8
