"""`Store`: what answers queries; in memory, and in the calendars of groups.

A book of several companies answers a question once for each calendar, over the groups
that keep it, and sets the answers together; every row is labelled in its own calendar.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, Protocol

import numpy as np

from eptaro.core.aggregation.groups import Groups
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measures
from eptaro.core.query.book_options import BookOptions, chosen_measures
from eptaro.core.query.lineage import InParts, ViewLineage
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import (
    EVERY,
    AsOf,
    By,
    Filter,
    MeasuredQuery,
    Only,
    Query,
    TotalledQuery,
    group_names,
    nothing_left,
    values_apart,
)
from eptaro.core.query.view import NOTES, BookData, View
from eptaro.core.results.column import Column, join_columns
from eptaro.core.results.format import DisplayHint, Format, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import (
    Accumulate,
    Card,
    Compare,
    GoalsQuery,
    Histogram,
    Recap,
    Rhythm,
    Spread,
    Trail,
)
from eptaro.errors import NothingLeftError, QuestionError, unknown
from eptaro.record import record

_ONE = "book.with_calendar(calendar), or --calendar NAME"


def answer(facts: BookData, query: Query) -> Result:
    """Return the answer to a query, in each group's own calendar where a book has several."""
    if isinstance(query, MeasuredQuery) and query.measures is not None:
        tallies = facts.folded.cells.tallies
        facts = replace(facts, measures=chosen_measures(query.measures, facts.measures, tallies))
    if not facts.rows:
        return _without_rows(facts, query)
    if isinstance(query, Histogram) and not query.needs_one_calendar:
        facts = replace(facts, own=None)  # its ranges are the same for all groups
    if facts.own is None:
        if isinstance(query, Accumulate | Trail | Compare) and query.wide:
            from eptaro.core.verbs.layouts.wide import set_across

            return set_across(query, partial(_answer, facts))
        if isinstance(query, TotalledQuery) and query.totals:
            from eptaro.core.verbs.layouts.totals import add_totals

            return add_totals(query, partial(_answer, facts))
        return _answer(facts, query)
    names = check_in_parts(facts.own, facts.groups.names, query)
    tables: dict[str, Result] = {}
    first_error = None
    for part in _parts_asked(facts, query):
        try:
            own_query = _with_own_goals(query.without_sort(), facts.own, part.calendar)
            tables[part.calendar.name] = _answer(part, own_query)
        except NothingLeftError as error:
            first_error = error
    if not tables and first_error is not None:
        raise first_error
    result = _merge_answers(facts, tables, names)
    return result.sorted(query.order) if query.order else result


def _without_rows(facts: BookData, query: Query) -> Result:
    """Return the columns of the answer to a query of a book that has no row."""
    plain = replace(query, only=None, as_of=None)
    if isinstance(plain, Accumulate | Compare | Card):
        plain = plain.with_goals(None)
    table = answer(replace(facts, own=None, folded=replace(facts.folded, rows=1)), plain)
    none = np.zeros(0, np.int64)
    meta = {name: table.meta[name] for name in _KNOWN if name in table.meta}
    meta |= {"headline": "The book has no rows."}
    return Result([column.take(none) for column in table.columns], meta)


_KNOWN = ("verb", "per", "within", "every", "back", "by", "measures", "source")


def _answer(facts: BookData, query: Query) -> Result:
    """Return what facts in one calendar answer; the module of the verb alone is loaded."""
    verb: Callable[[BookData, Any], Result]
    match query:
        case Recap(across="year"):
            from eptaro.core.verbs.layouts.years import across_years as verb
        case Recap() if query.only and len(facts.narrowed(query.only, query.as_of).windows) > 1:
            from eptaro.core.verbs.layouts.years import across_spans as verb
        case Recap(beside=Calendar()):
            from eptaro.core.verbs.layouts.bridge import on_two_calendars as verb
        case Recap():
            from eptaro.core.verbs.recap import recap as verb
        case Accumulate():
            from eptaro.core.verbs.accumulate import accumulate as verb
        case Trail():
            from eptaro.core.verbs.trail import trail as verb
        case Compare(groups="both"):
            from eptaro.core.verbs.comparison.standing import like_for_like as verb
        case Compare():
            from eptaro.core.verbs.comparison.compare import compare as verb
        case Card():
            from eptaro.core.verbs.card import card as verb
        case Rhythm():
            from eptaro.core.verbs.rhythm import rhythm as verb
        case Spread():
            from eptaro.core.verbs.spread import spread as verb
        case Histogram():
            from eptaro.core.verbs.spread import histogram as verb
        case _:
            return query.answer(facts)
    table = verb(facts, query)
    if isinstance(query, GoalsQuery) and query.goals:
        from eptaro.core.verbs.goals import notes_on_goals

        table.meta |= notes_on_goals(facts, query)
    if query.order and not isinstance(query, Recap):  # whose running shares go by the order
        return table.sorted(query.order)
    return table


def check_in_parts(own: OwnCalendars, names_known: Sequence[str], query: Query) -> list[str]:
    """Return the group columns asked for, of those known; raises `QuestionError` for what needs one
    calendar.
    """
    names = group_names(query.by)
    if names == [EVERY] and EVERY not in names_known:
        names = [*names_known]
    if own.column not in names:
        raise QuestionError(
            f"each {own.column} keeps its own calendar: group by it, or ask in one calendar "
            f"({_ONE})"
        )
    for option in query.needs_one_calendar:
        raise QuestionError(f"{option} needs one calendar for all groups: {_ONE}")
    return names


def _parts_asked(facts: BookData, query: Query) -> list[BookData]:
    """Return the facts in each calendar that a wanted group keeps; raises `QuestionError` for a
    label that is none of these calendars.
    """
    assert facts.own is not None
    names, parts = facts.groups.names, facts.in_parts()
    _, wanted = values_apart(query.only, names)
    today, coverage = facts.looked_at(query.as_of)
    if wanted:
        flags = facts.groups.matching(wanted)
        parts = [part for part in parts if part.part is not None and (flags & part.part).any()]
        if not parts:
            raise nothing_left(coverage)
    check_labels(facts.own, {part.calendar for part in parts}, query, names, today)
    return parts


def _with_own_goals(query: Query, own: OwnCalendars, calendar: Calendar) -> Query:
    """Return a query with the goals of the groups that keep a calendar, whose labels those are."""
    if not isinstance(query, GoalsQuery) or not query.goals:
        return query

    def keeps(group: Any) -> bool:
        found = own.of_value(group)
        if found is None:
            raise QuestionError(f"goals: {unknown('group', group, own.calendars)}")
        return found == calendar

    return query.with_goals_of(keeps)


def check_labels(
    own: OwnCalendars, kept: Collection[Calendar], query: Query, names: Sequence[str], today: int
) -> None:
    """Raise `QuestionError` where a label is none of a calendar among those kept, of several the
    first in the order in which they were given; and for a recap of several spans.
    """
    labels, _ = values_apart(query.only, names)
    for calendar in own.every:
        if calendar not in kept:
            continue
        if len(Filter.of(labels, calendar, names, today).windows) > 1 and isinstance(query, Recap):
            raise QuestionError(f"several spans need one calendar for all groups: {_ONE}")


def _merge_answers(book: BookData, tables: Mapping[str, Result], names: list[str]) -> Result:
    """Return the answers of all calendars as one table, in the order of the groups."""
    assert book.own is not None
    parts = [_label_calendar(table, name, names) for name, table in tables.items()]
    columns = [join_columns(list(same)) for same in zip(*parts, strict=True)]
    head = next(iter(tables.values()))
    notes = {key: t.meta[key] for t in tables.values() for key in NOTES if key in t.meta}
    for name in ("goals_outside", "goals_in_part"):  # of the groups of each calendar
        labels = dict.fromkeys(t.meta[name] for t in tables.values() if name in t.meta)
        notes |= {name: ", ".join(labels)} if labels else {}
    meta = head.meta | notes | {"calendar": book.own.describe()}
    if "tie_out" in meta:
        meta["tie_out"] = {
            f"{name} in {calendar}": text
            for calendar, part in tables.items()
            for name, text in part.meta["tie_out"].items()
        }
    answers = [table.answer for table in tables.values()]
    table = Result(columns, meta, InParts.of([a for a in answers if isinstance(a, ViewLineage)]))
    if "row" in table:
        return table.sorted("row")
    rank = {key: place for place, key in enumerate(_group_values(book.groups.onto(names)[0]))}
    order = [rank[key] for key in zip(*(table.column(n).to_list() for n in names), strict=True)]
    return table.take(np.argsort(np.array(order), kind="stable"))


def _label_calendar(table: Result, calendar: str, names: list[str]) -> list[Column]:
    """Return a part's columns with the name of its calendar after the groups."""
    columns = table.columns
    if "calendar" in table:
        return columns
    words = Column.text(
        "calendar",
        np.array([calendar]),
        np.zeros(len(table), np.int64),
        face=DisplayHint("calendar", Priority.KEY),
        description="The calendar that the row goes by",
    )
    at = max(columns.index(table.column(group)) for group in names) + 1
    return [*columns[:at], words, *columns[at:]]


def _group_values(groups: Groups) -> list[tuple[Any, ...]]:
    columns = groups.columns(np.arange(groups.count))
    return [*zip(*(column.to_list() for column in columns), strict=True)]


class Store(Protocol):
    """The cells of a book in memory, in a folder, or on the workers of a cluster."""

    @property
    def about(self) -> BookData:
        """Measures, calendar, coverage and all else that is known of the book; its cells and the
        values of its groups only where they are in memory.
        """

    @property
    def where(self) -> str:
        """Where the cells lie, in words; empty for those in memory."""

    @property
    def facts(self) -> BookData:
        """The book with all its cells in memory; raises `QuestionError` where they do not fit."""

    @property
    def at_hand(self) -> BookData:
        """The facts where a query takes all cells into memory, else what is known without them."""

    def ask(self, query: Query) -> Result:
        """Return the answer to a query."""

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what a query looks at."""

    def on_calendar(self, calendar: Calendar | OwnCalendars, workdays: Workdays | None) -> Store:
        """Return the same cells on another calendar."""

    def measuring(self, measures: Measures) -> Store:
        """Return the same cells with some of the measures, or others that they allow."""

    def formatted(self, formats: Mapping[str, Format]) -> Store:
        """Return the same cells with some measures shown in another way."""


@record
class MemoryStore:
    """Cells in memory; `file` is where they were read from, None where they were not."""

    facts: BookData
    file: Any = None

    @property
    def about(self) -> BookData:
        """The facts."""
        return self.facts

    @property
    def at_hand(self) -> BookData:
        """The facts."""
        return self.facts

    @property
    def where(self) -> str:
        """Nothing."""
        return ""

    def ask(self, query: Query) -> Result:
        """Return the answer to a query."""
        return answer(self.facts, query)

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what a query looks at."""
        return self.facts.view(by, only, as_of)

    def on_calendar(
        self, calendar: Calendar | OwnCalendars, workdays: Workdays | None
    ) -> MemoryStore:
        """Return the same cells on another calendar."""
        facts = self.facts
        coverage = facts.declared if facts.spans is None else facts.spans.asked
        options = BookOptions(
            *(facts.measures, [], calendar, coverage),
            workdays=workdays or facts.workdays,
            span=facts.coverage,
        )
        return MemoryStore(options.facts(facts.folded))

    def measuring(self, measures: Measures) -> MemoryStore:
        """Return the same cells with some of the measures, or others that they allow."""
        tallies = self.facts.folded.cells.tallies
        own = chosen_measures(measures, self.facts.measures, tallies)
        return MemoryStore(replace(self.facts, measures=own))

    def formatted(self, formats: Mapping[str, Format]) -> MemoryStore:
        """Return the same cells with some measures shown in another way."""
        return MemoryStore(self.facts.formatted(formats), self.file)
