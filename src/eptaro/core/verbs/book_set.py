"""Several books as one: the groups by the columns that all have, and the cells of each.

A set has one list of groups, which holds those of every book; each book keeps its own cells,
coverage and grain, and a measure takes its terms from the books that they are of.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import field, replace

import numpy as np

from eptaro.core.aggregation.cells import ROWS, Cells, concatenate_cells
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Categorical, Groups, unknown_group
from eptaro.core.aggregation.merge import numbered_together
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.grain import coarsest
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measure, Measures, parse_measures
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import (
    EVERY,
    AsOf,
    By,
    MeasuredQuery,
    Only,
    Query,
    group_names,
    values_apart,
)
from eptaro.core.query.view import BookData, SetTable, View
from eptaro.core.results.column import Column
from eptaro.core.results.format import Format
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Histogram, Spread
from eptaro.core.verbs.store import Store, answer
from eptaro.errors import MeasureError, QuestionError, unknown
from eptaro.record import record

ColumnNames = Mapping[str, Mapping[str, str]]  # of books: the set's names of columns -> their own
_MOST_LISTED = 10  # values that one book alone has


def measures_of_books(books: Mapping[str, Sequence[Measure]]) -> dict[str, Measure]:
    """Return the measures of books by what they are called in a set: by their names, and where
    two books have one name, by that of the book before it.

    >>> revenue = Measure.parse("revenue=sum(fare)")
    >>> [*measures_of_books({"sales": [revenue], "plan": [revenue]})]
    ['sales.revenue', 'plan.revenue']
    """
    names = [measure.name for measures in books.values() for measure in measures]
    by_book = {}
    for table, measures in books.items():
        for measure in measures:
            once = names.count(measure.name) == 1
            name = measure.name if once else f"{table}.{measure.name}"
            by_book[name] = measure.of_table(table, name)
    return by_book


def parse_set_measures(
    specs: Measures, own_measures: Sequence[Measure], books: Mapping[str, Sequence[Measure]]
) -> tuple[Measure, ...]:
    """Return measures of a set: those known, by their names, and what is calculated from them.

    Every measure of a book may also be written with the book's name before it. Raises
    `MeasureError` for one that is calculated from columns, which are those of a book.
    """
    names = {measure.name for measure in own_measures}
    _check_books_named(specs, names, books)
    longer = [
        measure.of_table(table, f"{table}.{measure.name}")
        for table, measures in books.items()
        for measure in measures
        if f"{table}.{measure.name}" not in names
    ]
    parsed = parse_measures(specs, [*own_measures, *longer])
    for measure in parsed:
        if "" in measure.tables:
            raise MeasureError(
                f"{measure.name}={measure.formula}: a set calculates with the measures of its "
                f"books, not with columns; give {measure.term} to its book and name it here. There "
                f"are {', '.join(sorted(names))}"
            )
    return parsed


_WORD = re.compile(r"[^\W\d]\w*(?:\.[^\W\d]\w*)?")


def _check_books_named(
    specs: Measures, measure_names: set[str], books: Mapping[str, Sequence[Measure]]
) -> None:
    """Raise `MeasureError` for a measure that names a book that is none, or one after it."""
    if isinstance(specs, Mapping):
        specs = [f"{name}={body}" for name, body in specs.items()]
    texts = [specs] if isinstance(specs, str) else specs if isinstance(specs, list | tuple) else []
    pairs = [text.partition("=")[::2] for text in texts if isinstance(text, str) and "=" in text]
    for place, (name, body) in enumerate(pairs):
        later = {other.strip() for other, _ in pairs[place:]} - measure_names
        for word in _WORD.findall(body):
            table, dot, own = word.partition(".")
            if dot and table not in books and word not in measure_names:
                raise MeasureError(f"{name.strip()}={body}: {unknown('book', table, books)}")
            if dot and word not in measure_names:
                names = [measure.name for measure in books[table]]
                if own not in names:
                    message = unknown(f"measure of {table}", own, names)
                    raise MeasureError(f"{name.strip()}={body}: {message}")
            if word in later:
                raise MeasureError(
                    f"{name.strip()}={body}: a measure takes those before it, and {word!r} is "
                    + ("the measure itself" if word == name.strip() else "after it")
                )


def columns_of(table: str, book: BookData, names: ColumnNames) -> list[str]:
    """Return the group columns of a book by what the set calls them."""
    called = {own: name for name, own in names.get(table, {}).items()}
    return [called.get(column, column) for column in book.groups.names]


def set_facts(
    books: Mapping[str, BookData],
    by: Sequence[str],
    names: ColumnNames,
    calendar: Calendar,
    workdays: Workdays,
    formats: Mapping[str, Format],
) -> BookData:
    """Return books as one, by group columns that all of them have.

    Raises `QuestionError` where they have no day in common.
    """
    _check_days(books, calendar)
    parts, onto = [], []
    for table, book in books.items():
        own = [names.get(table, {}).get(column, column) for column in by]
        fewer, places = book.groups.onto(own)
        parts.append(Groups(dict(zip(by, fewer.coded.values(), strict=True)), fewer.count))
        onto.append(places)
    groups, ranks = numbered_together(
        [part.drop_unused() for part in _with_comparable_groups(parts)]
    )
    tables, cells = {}, []
    for (table, book), rank, places in zip(books.items(), ranks, onto, strict=True):
        facts = replace(book, calendar=calendar, workdays=workdays, own=None)
        tables[table] = SetTable(facts, rank[places])
        row_counts = Cells(book.cells.axis, {ROWS: book.cells.tallies[ROWS]})
        cells.append(row_counts.regroup(rank[places], groups.count))
    folded = Folded(
        groups,
        concatenate_cells(cells),
        sum(book.rows for book in books.values()),
        tuple(dict.fromkeys(source for book in books.values() for source in book.folded.sources)),
        formats=formats,
        timed=all(book.folded.timed for book in books.values()),
        grain=coarsest([book.folded.grain for book in books.values()]),
    )
    spans = [book.coverage for book in books.values()]
    coverage = Span.of(min(span.lo for span in spans), max(span.hi for span in spans))
    return BookData(folded, (), calendar, coverage, workdays, tables=tables)


def with_measures(facts: BookData, measures: Sequence[Measure]) -> BookData:
    """Return a set with some measures, each of its books with the terms that these take of it."""
    tables = {}
    for name, table in facts.tables.items():
        terms = {t._replace(table="") for m in measures for t in m.terms if t.table == name}
        own = tuple(Measure(str(term), term) for term in sorted(terms, key=str))
        tables[name] = replace(table, facts=replace(table.facts, measures=own))
    return replace(facts, measures=tuple(measures), tables=tables)


def _check_days(books: Mapping[str, BookData], calendar: Calendar) -> None:
    for table, book in books.items():
        if not book.rows:
            raise QuestionError(f"{table}: the book has no rows")
        if calendar.limits and book.coverage not in calendar.limits:
            raise QuestionError(
                f"{table}: its coverage {book.coverage} goes beyond the list of calendar "
                f"{calendar.name!r}, {calendar.limits}"
            )
    begins = max(books, key=lambda table: books[table].coverage.lo)
    ends = min(books, key=lambda table: books[table].coverage.hi)
    if books[ends].coverage.hi < books[begins].coverage.lo:
        raise QuestionError(
            f"the books have no day in common: {ends} covers {books[ends].coverage}, {begins} "
            f"{books[begins].coverage}; ask each by itself, or give coverage= to the one that "
            f"knows of more days"
        )


def _with_comparable_groups(parts: Sequence[Groups]) -> list[Groups]:
    """Return groups of which no column holds numbers in one book and texts in another: those are
    texts in all.
    """
    by_name = [dict(part.coded) for part in parts]
    for name in parts[0].names:
        kinds = {c.choices.kind for part in parts if len((c := part.coded[name]).choices)}
        if len(kinds) > 1:
            for coded in by_name:
                words = np.array([*map(str, coded[name].choices.to_list()), None], object)[:-1]
                coded[name] = Categorical(coded[name].codes, Column.text(name, words))
    return [Groups(coded, part.count) for coded, part in zip(by_name, parts, strict=True)]


def odd_values(
    books: Mapping[str, BookData], by: Sequence[str], names: ColumnNames
) -> dict[str, list[str]]:
    """Return for each group column notes on the values that one book alone has, with the value of
    another that is nearest: they are often misspellings.
    """
    notes: dict[str, list[str]] = {}
    for column in by if len(books) > 1 else ():
        values = {}
        for table, book in books.items():
            coded = book.groups.coded[names.get(table, {}).get(column, column)]
            used = np.unique(coded.codes[coded.codes >= 0])
            values[table] = {str(value) for value in coded.choices.take(used).to_list()}
        common = set.intersection(*values.values())
        for table, own in values.items():
            others = set.union(*(v for other, v in values.items() if other != table))
            alone = sorted(own - others)
            remarks = []
            for value in alone[:_MOST_LISTED]:
                from difflib import get_close_matches

                near = get_close_matches(value, sorted(others - common or others), 1)
                remarks.append(f"{value!r} (like {near[0]!r})" if near else repr(value))
            if alone:
                more = f" and {len(alone) - _MOST_LISTED:,} more"
                listed = ", ".join(remarks) + (more if len(alone) > _MOST_LISTED else "")
                notes.setdefault(column, []).append(f"{table} alone has {listed}")
    return notes


@record
class SetStore:
    """The stores of several books, asked as one.

    `measures` are those of the set; `names` says what books call the group columns of the set. A
    query takes the cells of the books that its measures are of.
    """

    stores: Mapping[str, Store]
    measures: tuple[Measure, ...]
    calendar: Calendar
    workdays: Workdays
    names: ColumnNames = field(default_factory=dict)
    formats: Mapping[str, Format] = field(default_factory=dict)
    cache: dict[tuple[str, ...], BookData] = field(default_factory=dict)  # the facts of some books

    @property
    def about(self) -> BookData:
        """The facts of all measures."""
        return self.facts

    @property
    def at_hand(self) -> BookData:
        """The facts of all measures."""
        return self.facts

    @property
    def where(self) -> str:
        """Of how many books, in words."""
        return f" in {len(self.stores)} books"

    @property
    def facts(self) -> BookData:
        """The books that the measures are of, as one."""
        tables = _books_of(self.measures)
        if tables not in self.cache:
            by = self.columns(tables)
            books = {}
            for name in tables:
                own = [self.names.get(name, {}).get(column, column) for column in by]
                books[name] = self.stores[name].view(by=own).facts
            self.cache[tables] = set_facts(
                *(books, by, self.names, self.calendar, self.workdays, self.formats)
            )
        return with_measures(self.cache[tables], self.measures)

    @property
    def measures_of_books(self) -> dict[str, tuple[Measure, ...]]:
        """The measures of each book by its name."""
        return {name: store.about.measures for name, store in self.stores.items()}

    def columns(self, tables: Sequence[str]) -> list[str]:
        """Return the group columns that all of some books have."""
        first, *others = map(self._columns_of, tables)
        return [column for column in first if all(column in other for other in others)]

    def ask(self, query: Query) -> Result:
        """Return the answer to a query."""
        if isinstance(query, Spread | Histogram):
            raise QuestionError(
                f"{query.verb} looks at the rows of one book: ask that book, of "
                f"{', '.join(self.stores)}"
            )
        if isinstance(query, MeasuredQuery) and query.measures is not None:
            return self.measuring(query.measures).ask(replace(query, measures=None))
        self._check_columns(query)
        return answer(self.facts, query)

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what a query looks at."""
        self._check_columns(Query(by=by, only=only, as_of=as_of))
        return self.facts.view(by, only, as_of)

    def on_calendar(self, calendar: Calendar | OwnCalendars, workdays: Workdays | None) -> SetStore:
        """Return the same books on another calendar."""
        if isinstance(calendar, OwnCalendars):
            raise QuestionError("a set of books has one calendar, which all of them share")
        work = workdays or self.workdays
        return replace(self, calendar=calendar, workdays=work, cache={})

    def measuring(self, measures: Measures) -> SetStore:
        """Return the same books with some of the measures, or others that are made of them."""
        books = self.measures_of_books
        by_name = {m.name: m for m in (*measures_of_books(books).values(), *self.measures)}
        own = parse_set_measures(measures, [*by_name.values()], books)
        return replace(self, measures=own)

    def formatted(self, formats: Mapping[str, Format]) -> SetStore:
        """Return the same books with some measures shown in another way."""
        return replace(self, formats={**self.formats, **formats}, cache={})

    def _columns_of(self, table: str) -> list[str]:
        return columns_of(table, self.stores[table].about, self.names)

    def _check_columns(self, query: Query) -> None:
        """Raise `QuestionError` for a group column that a book which is asked does not have."""
        columns = {table: self._columns_of(table) for table in self.stores}
        every = [*dict.fromkeys(column for own in columns.values() for column in own)]
        _, values_by_name = values_apart(query.only, every)
        names = group_names(query.by)
        for name in dict.fromkeys([*([] if names == [EVERY] else names), *values_by_name]):
            lacking = [t for t in _books_of(self.measures) if name not in columns[t]]
            if not lacking:
                continue
            if name not in every:
                raise unknown_group(name, every)
            can = [m.name for m in self.measures if all(name in columns[t] for t in m.tables)]
            cure = f"; without it, ask measures={can!r}" if can else ""
            raise QuestionError(f"{' and '.join(lacking)} has no column {name!r}{cure}")


def _books_of(measures: Sequence[Measure]) -> tuple[str, ...]:
    """Return the names of the books that measures take, each once."""
    return tuple(dict.fromkeys(table for measure in measures for table in measure.tables))
