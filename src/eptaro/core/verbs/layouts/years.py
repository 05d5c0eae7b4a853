"""Spans side by side: the periods of a year down and years across, or the spans of `only`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from eptaro.core.aggregation.folded import rows_note
from eptaro.core.calendars.calendar import LETTERS, Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import Names, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.query.lineage import Change, Side, TracedNumber, Value, ViewLineage
from eptaro.core.query.view import BookData, View, top_groups
from eptaro.core.results.column import NO_NUMBERS, Column, join_columns
from eptaro.core.results.format import COMPLETE, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.comparison.compare import change_columns
from eptaro.core.verbs.periods import TOTAL, spans_of
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap import tie_out
from eptaro.errors import QuestionError, show_option

_PARTS = ("half", "quarter", "month", "week")
_OTHERS = ("wide", "totals", "subtotals", "shares", "ranks", "index", "every", "goals", "beside")


class _Cell(NamedTuple):
    """The spans of one year, row by row: days, whether there is such a period, and is complete."""

    first: Ints
    last: Ints
    exists: Flags
    complete: Flags


def across_years(facts: BookData, query: Recap) -> Result:
    """Return one row per group and period of a year, with a column for each year and measure, and
    the change from the last year but one to the last, blank unless both are complete.
    """
    view = facts.view(query.by, query.only, query.as_of)
    if query.top is not None:
        view = top_groups(view, query.top, query.within_groups)
    calendar, per = view.calendar, check_level(query.per, view.calendar.levels)
    if per not in _PARTS:
        offered = ", ".join(level for level in _PARTS if level in calendar.levels)
        raise QuestionError(
            f"{show_option('across', 'year')} sets out the parts of a year: {offered}, not {per}s"
        )
    first, last, whole, _ = spans_of(view, per)
    # Weeks count in their week-year: the last days of December may lie in week 1 of the next one.
    year, number = calendar.numbers(calendar.index_of(first, per), per)
    years, down = np.unique(year), np.unique(number)
    cells = [_cell(year == own_year, number, down, (first, last, whole)) for own_year in years]
    if query.totals:
        if per == "week" and not _weeks_nest(view):
            of_years, year_numbers = _years_of_weeks(calendar, year, number, first, last, whole)
        else:
            of_years = spans_of(view, "year")[:3]
            year_numbers = calendar.numbers(calendar.index_of(of_years[0], "year"), "year")[0]
        cells = [
            _append_total(cell, *(part[year_numbers == one] for part in of_years))
            for cell, one in zip(cells, years, strict=True)
        ]
    labels = [*_labels_within_year(calendar, per, down), *([TOTAL] if query.totals else [])]
    titles = [f"{calendar.prefix}{number:04d}" for number in years.tolist()]
    table, tied = years_side_by_side(
        view, query, titles, cells, (per, f"The {per} of the year", labels)
    )
    parts = np.ones(len(tied[0]), bool)
    table.meta["tie_out"] = tie_out(view, tied, parts) | rows_note(view.facts.folded)
    return table


def across_spans(facts: BookData, query: Recap) -> Result:
    """Return one row per group and number of a period in its span, with a column for each of the
    spans that `only` names and each measure, and the change from the last but one to the last.
    """
    for name in _OTHERS:
        if getattr(query, name):
            raise QuestionError(f"several spans in only= are set side by side, without {name}")
    # The spans become columns, so the view is narrowed by the groups alone.
    narrowed = facts.narrowed(query.only, query.as_of)
    view = facts.view(query.by, dict(narrowed.wanted) or None, query.as_of)
    if query.top is not None:
        view = top_groups(view, query.top, query.within_groups)
    per = check_level(query.per, view.calendar.levels)
    spans = []
    for window in narrowed.windows:
        first, last, whole, _ = spans_of(replace(view, window=window), per)
        spans.append((first, last, whole))
    count = max(len(first) for first, *_ in spans)
    down = np.arange(count)
    cells = [_cell(np.ones(len(s[0]), bool), down[: len(s[0])], down, s) for s in spans]
    titles = [_title(view.calendar, window) for window in narrowed.windows]
    labels = [str(number + 1) for number in down]
    words = (per, f"Which {per} of its span", labels)
    table, _ = years_side_by_side(view, query, titles, cells, words if count > 1 else None)
    table.meta["spans"] = dict(zip(titles, narrowed.windows, strict=True))
    return table.sorted(query.order) if query.order else table


def _title(calendar: Calendar, window: Span) -> str:
    """Return the label of the period that a span is, or its days."""
    for level in calendar.levels:
        period = calendar.period_of(window.first, level)
        if period.span == window:
            return period.label
    return str(window)


def years_side_by_side(
    view: View,
    query: Recap,
    titles: Sequence[str],
    cells: Sequence[_Cell],
    down: tuple[str, str, list[str]] | None,
) -> tuple[Result, list[Column]]:
    """Return the spans of cells side by side under their titles, and the values of each measure one
    below the other; `down` names and describes the rows, and has their labels.
    """
    labels = [""] if down is None else down[2]
    groups, count = view.groups.count, len(labels)
    group, place = np.repeat(np.arange(groups), count), np.tile(np.arange(count), groups)
    columns = [*view.groups.columns(group)]
    if down is not None:
        face = DisplayHint(down[0], Priority.KEY)
        words = Column.text(down[0], np.array(labels), place, description=down[1], face=face)
        columns.append(words)
    comparable_parts = [
        cell.complete[place] & view.complete(cell.first[place], cell.last[place], group)
        for cell in cells
    ]
    there = [cell.exists[place] for cell in cells]
    # A year without such a period, week 53 say, leaves the row as complete as the others are.
    every = np.logical_and.reduce(
        [fine | ~is_one for fine, is_one in zip(comparable_parts, there, strict=True)]
    )
    numbers: dict[str, TracedNumber] = {}
    several = len(view.facts.measures) > 1
    # Totals would count their parts twice in the note that ties the table to its rows.
    of_parts = np.array([label != TOTAL for label in labels])
    tied = []
    for measure in view.facts.measures:
        value_columns, behind = list[Column](), list[Value]()
        for title, cell in zip(titles, cells, strict=True):
            days = cell.first[place], cell.last[place]
            value = view.value(measure, group, *days).blanked(cell.exists[place])
            name = f"{measure.name} {title}" if several else title
            label = view.calendar.shown_label(title)
            face = DisplayHint(f"{measure.name} {label}" if several else label)
            value_columns.append(value.named(name, f"{measure.formula} in {title}", face))
            behind.append(Value(view, measure, group, Side("days", *days, cell.exists[place])))
            numbers[name] = behind[-1]
        tied.append(
            join_columns([column.take(np.flatnonzero(of_parts[place])) for column in value_columns])
        )
        columns += value_columns
        if len(value_columns) > 1 and value_columns[-1].kind not in NO_NUMBERS:
            both = comparable_parts[-1] & comparable_parts[-2]
            changed = change_columns(
                value_columns[-1].name, value_columns[-1], value_columns[-2], both
            )[1:]
            columns += changed
            for column, ratio in zip(changed, (False, True), strict=True):
                numbers[column.name] = Change(behind[-1], behind[-2], both, ratio, None)
    columns.append(
        Column.of(
            "complete",
            "flag",
            every,
            description="Whether all periods of the row are complete",
            face=COMPLETE,
        )
    )
    meta = view.meta("recap") | {"per": query.per}
    answer = ViewLineage(query, view, group, numbers)
    return Result(columns, meta, answer), tied


def _cell(of_year: Flags, number: Ints, down: Ints, spans: tuple[Ints, Ints, Flags]) -> _Cell:
    """Return the spans of one year's periods among all numbers.

    All arrays are `(n_periods,)`, but `down` is `(n_numbers,)`.
    """
    at = np.flatnonzero(of_year)
    place = np.searchsorted(down, number[at])
    first, last = np.zeros(len(down), np.int64), np.zeros(len(down), np.int64)
    exists, whole = np.zeros(len(down), bool), np.zeros(len(down), bool)
    first[place], last[place], whole[place] = (part[at] for part in spans)
    exists[place] = True
    return _Cell(first, last, exists, whole)


def _weeks_nest(view: View) -> bool:
    """Return whether the years of a view begin and end with a week: few of 12 months do."""
    calendar = view.calendar
    years = calendar.periods(view.seen, "year")
    first, last = (calendar.index_of(days, "week") for days in (years.first, years.last))
    begins, ends = calendar.first_days(first, "week"), calendar.last_days(last, "week")
    return bool((begins == years.first).all() and (ends == years.last).all())


def _years_of_weeks(
    calendar: Calendar, year: Ints, number: Ints, first: Ints, last: Ints, whole: Flags
) -> tuple[tuple[Ints, Ints, Flags], Ints]:
    """Return the first and last day of the weeks of each year, whether all of its weeks are there
    and whole, and which years these are.

    The arguments are `(n_weeks,)` and in order, the results `(n_years,)`.
    """
    begins = np.flatnonzero(np.diff(year, prepend=year[0] - 1))
    ends = np.append(begins[1:], len(year)) - 1
    after = calendar.numbers(calendar.index_of(last[ends], "week") + 1, "week")[1]
    every = np.logical_and.reduceat(whole, begins) & (number[begins] == 1) & (after == 1)
    return (first[begins], last[ends], every), year[begins]


def _append_total(cell: _Cell, first: Ints, last: Ints, whole: Flags) -> _Cell:
    """Return a cell with the year's total as its last row; each array is `(1,)`."""
    return _Cell(
        np.append(cell.first, first[:1]),
        np.append(cell.last, last[:1]),
        np.append(cell.exists, True),
        np.append(cell.complete, whole[:1]),
    )


def _labels_within_year(calendar: Calendar, per: str, down: Ints) -> list[str]:
    """Return what the periods of a year are called: months of the civil calendar by their names.

    `down` is `(n_numbers,)`.
    """
    if per == "month" and calendar.plain_months:
        return [Names().months[number - 1] for number in down.tolist()]
    width = 1 if per in ("half", "quarter") else 2
    return [f"{LETTERS[per]}{number:0{width}d}" for number in down.tolist()]
