"""Postings to adjustment periods, which belong to a year and to none of its months or days."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measures
from eptaro.core.query.lineage import InParts, ViewLineage
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import (
    ADJUSTMENT,
    EVERY,
    NO_ADJUSTMENT,
    AsOf,
    By,
    Filter,
    Only,
    Query,
    group_names,
    looked_at,
    values_apart,
)
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, coded_once, join_columns, with_texts
from eptaro.core.results.format import PERIOD, DisplayHint, Format, Priority
from eptaro.core.results.result import Lineage, NoLineage, Result
from eptaro.core.verbs.queries import Compare, Recap
from eptaro.core.verbs.store import Store
from eptaro.errors import QuestionError
from eptaro.record import record

_NARROW = ("half", "quarter", "month")  # levels between whose periods adjustments have rows
_PLAIN = ("across", "beside", "every", "goals", "index", "ranks", "shares", "top", "wide")
_RANKS = {"month": 0, "quarter": 1, "half": 2, "adjustment": 3, "year": 4, "total": 5}

Ask = Callable[[Query], Result]


@record
class AdjustedStore:
    """The store of a book that has postings to adjustment periods, which count in whole years; or,
    where only months are wanted, in nothing.
    """

    store: Store
    months_only: bool = False

    @property
    def about(self) -> BookData:
        """What is known of the book."""
        return self.store.about

    @property
    def where(self) -> str:
        """Where the cells lie, in words."""
        return self.store.where

    @property
    def facts(self) -> BookData:
        """The book with all its cells."""
        return self.store.facts

    @property
    def at_hand(self) -> BookData:
        """The book with its cells, where these are few."""
        return self.store.at_hand

    def ask(self, query: Query) -> Result:
        """Return the answer to a query."""
        return ask_with_adjustments(self.store.ask, self.about, query, months_only=self.months_only)

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what a query looks at, adjustments included."""
        return self.store.view(self.about.by if group_names(by) == [EVERY] else by, only, as_of)

    def on_calendar(
        self, calendar: Calendar | OwnCalendars, workdays: Workdays | None
    ) -> AdjustedStore:
        """Return the same cells on another calendar."""
        return replace(self, store=self.store.on_calendar(calendar, workdays))

    def measuring(self, measures: Measures) -> AdjustedStore:
        """Return the same cells with some of the measures, or others that they allow."""
        return replace(self, store=self.store.measuring(measures))

    def formatted(self, formats: Mapping[str, Format]) -> AdjustedStore:
        """Return the same cells with some measures shown in another way."""
        return replace(self, store=self.store.formatted(formats))


def ask_with_adjustments(
    ask: Ask, book: BookData, query: Query, *, months_only: bool = False
) -> Result:
    """Return the answer of a book, in which postings to adjustment periods count in whole years,
    unless `months_only` are wanted.

    `ask` answers a query in the ordinary way. A recap of months, quarters or halves has rows of the
    adjustment periods, after those of their year; from all other questions these postings are left
    out, with a note. Questions that name the column of adjustment periods see it as any other.
    """
    names = book.groups.names
    others, values_by_name = values_apart(query.only, names)
    by = group_names(query.by)
    if by == [EVERY]:
        by = book.by
    if ADJUSTMENT in by or ADJUSTMENT in values_by_name:
        return ask(query)
    query = replace(query, by=by)
    whole = not months_only and _whole_years(book, query)
    if whole and isinstance(query, Recap) and query.per == "year" and _is_plain(query):
        return ask(query)
    if whole and isinstance(query, Compare) and query.per == "year" and _of_years(query):
        return ask(query)
    months = replace(query, only=[*others, {**values_by_name, ADJUSTMENT: [NO_ADJUSTMENT]}])
    adjusted: dict[str, int] = {}
    for span in others or [None]:  # several are set side by side
        parts = [part for part in (span, values_by_name) if part]
        for period, count in _postings(ask, book, replace(query, only=parts or None)).items():
            adjusted[period] = adjusted.get(period, 0) + count
    plain = whole and len(others) < 2 and isinstance(query, Recap) and _is_plain(query)
    if plain and isinstance(query, Recap) and query.per in _NARROW:
        assert isinstance(months, Recap)
        return _with_adjustment_rows(ask, query, months, sorted(adjusted))
    try:
        table = ask(months)
    except QuestionError:
        if adjusted and not book.rows - sum(adjusted.values()):
            message = f"there is nothing but {_in_words(adjusted)}: ask for years, which have them"
            raise QuestionError(message) from None
        raise
    if adjusted:
        table.meta["adjustments"] = _in_words(adjusted)
    return table


def _is_plain(query: Recap) -> bool:
    return not any(getattr(query, name) for name in _PLAIN)


def _of_years(query: Compare) -> bool:
    """Return whether a comparison sets whole years against whole years."""
    return not (query.to_date or query.trailing or query.every or query.effects or query.goals)


def _whole_years(book: BookData, query: Query) -> bool:
    """Return whether the spans that a question is narrowed to are made of whole years."""
    calendars = [book.calendar] if book.own is None else book.own.every
    today, coverage = looked_at(query.as_of, book.coverage, book.folded.grain)
    windows = Filter.of(query.only, book.calendar, book.groups.names, today).windows
    return all(
        "year" in calendar.levels
        and (lo <= coverage.lo or _begins_year(calendar, lo))
        and (hi >= coverage.hi or _begins_year(calendar, hi + 1))
        for calendar in calendars
        for lo, hi in ((window.lo, window.hi) for window in windows)
    )


def _begins_year(calendar: Calendar, day: int) -> bool:
    index = calendar.index_of(np.array([day]), "year")
    return int(calendar.first_days(index, "year")[0]) == day


def _postings(ask: Ask, book: BookData, query: Query) -> dict[str, int]:
    """Return how many postings each adjustment period has in the days and groups of a question."""
    by = [ADJUSTMENT] if book.own is None else [book.own.column, ADJUSTMENT]
    count = Recap("year", by=by, only=query.only, as_of=query.as_of, measures="n=count()")
    counts: dict[str, int] = {}
    for row in ask(count).rows():
        period = str(row[ADJUSTMENT])
        if period != NO_ADJUSTMENT and row["n"]:
            counts[period] = counts.get(period, 0) + int(row["n"])
    return counts


def _in_words(postings: dict[str, int]) -> str:
    """Return which postings are left out.

    >>> _in_words({"13": 2, "14": 1})
    '3 postings to adjustment periods (13, 14)'
    """
    count = sum(postings.values())
    noun = "posting" if count == 1 else "postings"
    return f"{count:,} {noun} to adjustment periods ({', '.join(sorted(postings))})"


def _with_adjustment_rows(ask: Ask, query: Recap, months: Recap, periods: Sequence[str]) -> Result:
    """Return the rows of months, those of adjustment periods, and those of years and totals, in
    which both are.
    """
    narrow = tuple(level for level in query.subtotal_levels if level != "year")
    tables: list[tuple[str, Result]] = []
    try:
        plain = replace(months, subtotals=narrow, totals=False, sort=None)
        tables.append((query.per, ask(plain)))
    except QuestionError:  # there may be none but adjustments
        if not periods:
            raise
    others, values_by_name = values_apart(query.only, [*group_names(query.by), ADJUSTMENT])
    if periods:
        only = [*others, {**values_by_name, ADJUSTMENT: [*periods]}]
        own = replace(query, per="year", subtotals=(), totals=False, sort=None, only=only)
        own = replace(own, by=[*group_names(query.by), ADJUSTMENT])
        tables.append(("adjustment", _periods_of(ask, own)))
    if query.totals or "year" in query.subtotal_levels:
        years = ask(replace(query, per="year", subtotals=(), totals=query.totals, sort=None))
        keep = np.ones(len(years), bool)
        if "year" not in query.subtotal_levels:
            keep = np.array(years.column("period").unmasked() == "total", bool)
        tables.append(("year", years.take(np.flatnonzero(keep))))
    return _merge_in_time_order(query, [(level, table) for level, table in tables if len(table)])


def _periods_of(ask: Ask, query: Recap) -> Result:
    """Return the rows of adjustment periods that have postings, named after their years."""
    row_counts = ask(replace(query, measures="n=count()")).column("n")
    table = ask(query).take(np.flatnonzero(row_counts.data > 0))
    label, numbers = table.column("period"), table.column(ADJUSTMENT).to_list()
    texts = (label.face.texts if label.face is not None else None) or {}
    keys, texts_shown = list[str](), list[str]()
    for year, number in zip(label.to_list(), numbers, strict=True):
        keys.append(f"{year}-X{str(number).zfill(2)}")  # which sorts after the months
        texts_shown.append(f"{texts.get(str(year), year)} P{number}")
    face = with_texts(label.face or PERIOD, zip(keys, texts_shown, strict=True))
    labels = coded_once(
        Column.text("period", np.array(keys, str), description=label.description, face=face)
    )
    columns = [labels if name == "period" else table.column(name) for name in table.names]
    return Result([c for c in columns if c.name != ADJUSTMENT], table.meta, table.answer)


def _merge_in_time_order(query: Recap, tables: Sequence[tuple[str, Result]]) -> Result:
    """Return tables as one, group by group in time order; wider rows follow their parts."""
    leveled = [_with_level(level, table) for level, table in tables]
    columns = [
        coded_once(join_columns(list(same))) if same[0].kind == "text" else join_columns(list(same))
        for same in zip(*(table.columns for table in leveled), strict=True)
    ]
    table = Result(columns, leveled[0].meta)
    levels = table.column("level").to_list()
    rank = np.array([_RANKS[str(level)] for level in levels])
    last = table.column("last").data
    group = _places_of_groups(table, group_names(query.by))
    order = np.lexsort((table.column("period").ranks(), rank, last, group))
    meta = dict(table.meta)
    adjusted = dict(tables).get("adjustment")
    if adjusted is not None:
        tied = adjusted.meta.get("tie_out", {}).items()
        words = {f"{name} of adjustment periods": text for name, text in tied}
        meta["tie_out"] = meta.get("tie_out", {}) | words
    answer = _lineage(query, [part.answer for _, part in tables], len(table))
    result = Result(columns, meta, answer).take(order)
    return result.sorted(query.order) if query.order else result


def _with_level(level: str, table: Result) -> Result:
    """Return a table with the level of each row after its label."""
    if "level" in table:
        return table
    label = table.column("period")
    words = np.where(label.unmasked() == "total", "total", level)
    face = DisplayHint("level", Priority.KEY)
    column = Column.text("level", words, description="Level of the period", face=face)
    return table.insert_after({"period": coded_once(column)})


def _places_of_groups(table: Result, by: Sequence[str]) -> Ints:
    """Return for each row the place of its group in the order in which groups come first."""
    if not by:
        return np.zeros(len(table), np.int64)
    keys = np.stack([table.column(name).ranks() for name in by], axis=1)
    _, first, place = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    order: NDArray[np.int64] = np.argsort(np.argsort(first))[place.ravel()]
    return order


def _lineage(query: Recap, answers: Sequence[Lineage | None], rows: int) -> Lineage:
    """Return what is behind the rows of several answers, one below the other."""
    if len(answers) == 1 and answers[0] is not None:
        return answers[0]
    parts: list[ViewLineage] = []
    where: list[tuple[Ints, Ints]] = []
    for answer in answers:
        match answer:
            case ViewLineage():
                where.append((np.full(len(answer.rows), len(parts)), np.arange(len(answer.rows))))
                parts.append(replace(answer, asked=query))
            case InParts():
                where.append((answer.part + len(parts), answer.rows))
                parts += [replace(part, asked=query) for part in answer.parts]
            case _:
                first = answers[0]
                assert first is not None
                return NoLineage(query, first.by, first.measures, first.calendar)
    part, own = (np.concatenate(pieces) for pieces in zip(*where, strict=True))
    return InParts(parts, part, own)
