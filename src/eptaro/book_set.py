"""`BookSet`: several books by name, queried as one."""

from __future__ import annotations

import re
from collections.abc import Mapping

from eptaro.book import Book
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measures
from eptaro.core.query.query import ADJUSTMENT
from eptaro.core.results.format import Format, check_formats
from eptaro.core.verbs.book_set import (
    ColumnNames,
    SetStore,
    measures_of_books,
    odd_values,
    parse_set_measures,
)
from eptaro.daybook import Daybook
from eptaro.errors import QuestionError, unknown

_NAME = re.compile(r"[^\W\d]\w*")


class BookSet(Book):
    """Several books by name, asked like one: sales beside the visitors of a door counter.

    The books share a calendar and the group columns that all of them have; each keeps its own
    coverage, grain and store. A value is blank outside the coverage of its book; a row is complete,
    and a comparison comparable, when every measure asked in it is. `as_of="latest"` is the earliest
    of the books' last days. Dated by unlike periods, the coarsest are the finest that can be asked.

    Parameters
    ----------
    books : mapping of str to Daybook
        The books; names are plain words.
    measures : str, Measure, several of these, or a mapping of names to formulas, optional
        What is calculated from the measures of several books, such as
        `per_visitor=sales.revenue / doors.visitors`; it is calculated from the totals of the days
        of each row that all of its books cover, so that a ratio of sums stays one.
    calendar : Calendar, optional
        What cuts days into periods, by default the calendar of the first book.
    workdays : Workdays, optional
        Which days are worked, by default those of the first book.
    names : mapping of str to mapping, optional
        Of books that call a group column differently: the set's name of it to theirs, such as
        `{"doors": {"branch": "store"}}`.
    formats : mapping of str to Format, optional
        How measures are shown.

    Raises
    ------
    QuestionError
        Where there are no books, or a name is not a plain word.
    MeasureError
        For a measure of what no book has.

    Notes
    -----
    A group that a book never saw has 0 in its sums and counts, and blanks elsewhere. Values of a
    group column that one book alone has are in `notes`: they are often misspellings.

    Examples
    --------
    >>> import eptaro as ep
    >>> sales = ep.Daybook({"on": ["2025-01-03", "2025-02-03"], "fare": [70, 90]}, date="on",
    ...                    measures="revenue=sum(fare)", coverage="months")
    >>> doors = ep.Daybook({"day": ["2025-01-04", "2025-02-27"], "count": [35, 30]}, date="day",
    ...                    measures="visitors=sum(count)", coverage="months")
    >>> both = ep.BookSet({"sales": sales, "doors": doors},
    ...                   measures="per_visitor=sales.revenue / doors.visitors")
    >>> both.recap("month", measures="per_visitor")["per_visitor"].tolist()
    [2.0, 3.0]
    """

    def __init__(
        self,
        books: Mapping[str, Daybook],
        measures: Measures | None = None,
        calendar: Calendar | None = None,
        workdays: Workdays | None = None,
        names: ColumnNames | None = None,
        formats: Mapping[str, Format] | None = None,
    ) -> None:
        _check_books(books)
        if calendar is not None and not isinstance(calendar, Calendar):
            raise QuestionError(f"a set has one calendar, which all share; {calendar!r} is none")
        stores = {name: book._store for name, book in books.items()}
        by_store = {name: store.about.measures for name, store in stores.items()}
        measures_known = [*measures_of_books(by_store).values()]
        own = () if measures is None else parse_set_measures(measures, measures_known, by_store)
        every = {measure.name: measure for measure in (*measures_known, *own)}
        first = next(iter(stores.values())).about
        formats_known = {
            name: store.about.folded.formats[known_name]
            for name, measure in every.items()
            if len(measure.tables) == 1
            for store in [stores[measure.tables[0]]]
            for known_name in [name.removeprefix(f"{measure.tables[0]}.")]
            if known_name in store.about.folded.formats
        }
        self._store: SetStore = SetStore(
            stores,
            tuple(every.values()),
            calendar or first.calendar,
            workdays or first.workdays,
            _checked_names(names or {}, books),
            {**formats_known, **check_formats(formats or {}, [*every])},
        )

    @property
    def books(self) -> dict[str, list[str]]:
        """The books by name, with the measures of each."""
        return {
            name: [measure.name for measure in measures]
            for name, measures in self._store.measures_of_books.items()
        }

    @property
    def notes(self) -> tuple[str, ...]:
        """What a reader should know of the books together: values that one alone has, and
        calendars of their own, instead of which that of the set is used.
        """
        subjects = self.notes_by_subject.items()
        return tuple(f"{subject}: {note}" for subject, notes in subjects for note in notes)

    @property
    def notes_by_subject(self) -> dict[str, list[str]]:
        """The notes on each group column, and on the `calendar`."""
        store, facts = self._store, self._store.facts
        tables = {name: table.facts for name, table in facts.tables.items()}
        notes = odd_values(tables, facts.groups.names, store.names)
        own = {name: one.about.calendar for name, one in store.stores.items()}
        odd = [name for name, calendar in own.items() if calendar != store.calendar]
        if odd:
            notes["calendar"] = [
                f"{store.calendar.name!r} is used for all; {', '.join(odd)} "
                f"{'keeps' if len(odd) == 1 else 'keep'} another when asked alone"
            ]
        return notes


def _check_books(books: Mapping[str, Daybook]) -> None:
    if not isinstance(books, Mapping) or not books:
        raise QuestionError(
            "a set is a mapping of names to books: BookSet({'sales': sales, 'doors': doors})"
        )
    for name, book in books.items():
        if not isinstance(name, str) or not _NAME.fullmatch(name):
            raise QuestionError(
                f"{name!r} cannot name a book: measures name it, as in sales.revenue, so it is a "
                f"word of letters, digits and underscores"
            )
        if not isinstance(book, Daybook):
            raise QuestionError(f"{name}: {book!r} is not a Daybook")
        if ADJUSTMENT in book._store.about.groups.names:
            raise QuestionError(
                f"{name} has adjustment periods, which are shown for a book alone; make it without "
                f"adjustments=, or with where= for the postings to months"
            )


def _checked_names(names: ColumnNames, books: Mapping[str, Daybook]) -> ColumnNames:
    """Return what books call group columns; raises `QuestionError` for what is in none."""
    for table, columns in names.items():
        if table not in books:
            raise QuestionError(unknown("book", table, books))
        for name, own in columns.items():
            if own not in books[table].by:
                raise QuestionError(f"{table}: {unknown('group column', own, books[table].by)}")
            if name != own and name in books[table].by and name not in columns.values():
                raise QuestionError(
                    f"names: {table} has a column {name!r} of its own, beside {own!r}"
                )
    return names
