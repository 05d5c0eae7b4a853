"""`Book`: what every book answers, whatever holds its cells."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import wraps
from inspect import Parameter, signature
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, Self, TypeAlias, cast

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measure
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import AsOf, Query, check_types
from eptaro.core.results.column import Column
from eptaro.core.verbs.queries import (
    Accumulate,
    Card,
    Compare,
    Goals,
    Histogram,
    Match,
    Recap,
    Rhythm,
    Spread,
    Trail,
)
from eptaro.core.verbs.store import Store
from eptaro.errors import QuestionError, count_noun, unknown
from eptaro.option import SYNONYMS
from eptaro.table import Table

Options = ParamSpec("Options")
Method: TypeAlias = Callable[Concatenate[Any, Options], Table]


_WHERE = (
    "; a condition on rows is given to the book: Daybook.read(..., where=...), or to a measure: "
    "sum(fare where fare_class = 'car')"
)


def method_of(query: Callable[Options, Query]) -> Method[Options]:
    """Return the method that asks such a query: its parameters and its documentation are those of
    the query's class.
    """
    kind = cast("type[Query]", query)
    parameters = list(signature(kind).parameters.values())
    names = [parameter.name for parameter in parameters]

    def method(self: Book, /, *args: Options.args, **options: Options.kwargs) -> Table:
        for name in options:
            if name not in names:
                message = unknown(f"option of {kind.verb}", name, names, SYNONYMS)
                raise QuestionError(f"{message}{_WHERE if name == 'where' else ''}")
        check_types(kind, dict(zip(names, args, strict=False)) | options)
        return self.ask(query(*args, **options))

    wraps(kind, updated=())(method)
    method.__name__ = kind.verb
    own = Parameter("self", Parameter.POSITIONAL_ONLY)
    method.__signature__ = signature(kind).replace(  # type: ignore[attr-defined]
        parameters=[own, *parameters], return_annotation="Table"
    )
    return cast("Method[Options]", method)


class Book:
    """What every book answers: the verbs, and what is known of it; a store holds its cells."""

    _store: Store

    @classmethod
    def _of(cls, store: Store) -> Self:
        book = cls.__new__(cls)
        book._store = store
        return book

    @property
    def measures(self) -> tuple[Measure, ...]:
        """What is calculated."""
        return self._store.about.measures

    @property
    def by(self) -> list[str]:
        """The group columns."""
        return self._store.about.by

    @property
    def calendar(self) -> Calendar:
        """The calendar; of a book whose groups keep their own, that of the others."""
        return self._store.about.calendar

    @property
    def coverage(self) -> Span:
        """The days that the data covers; raises `QuestionError` where there is no row."""
        about = self._store.about
        if not about.rows and about.declared is None:
            raise QuestionError("the book has no rows, and so covers no days; give it a coverage")
        return about.coverage

    @property
    def workdays(self) -> Workdays:
        """Which days are worked."""
        return self._store.about.workdays

    @property
    def rows(self) -> int:
        """How many transactions were counted."""
        return self._store.about.rows

    @property
    def source(self) -> str:
        """Where they came from."""
        return self._store.about.source

    recap = method_of(Recap)
    accumulate = method_of(Accumulate)
    trail = method_of(Trail)
    compare = method_of(Compare)
    card = method_of(Card)
    rhythm = method_of(Rhythm)
    spread = method_of(Spread)
    histogram = method_of(Histogram)

    def with_calendar(
        self, calendar: Calendar | OwnCalendars, *, workdays: Workdays | None = None
    ) -> Self:
        """Return the same transactions on another calendar.

        Parameters
        ----------
        calendar : Calendar or OwnCalendars
            The calendar, or the own ones of groups.
        workdays : Workdays, optional
            Which days are worked, by default those of the book.

        Returns
        -------
        Book
            A book of the same cells.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-05-01"]}, date="on", measures="n=count()")
        >>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        >>> str(book.with_calendar(fiscal).latest("year"))
        'FY2026'
        """
        return self._of(self._store.on_calendar(calendar, workdays))

    def ask(self, query: Query) -> Table:
        """Return the answer to a query; `recap` and its like make one and ask it.

        Parameters
        ----------
        query : Query
            What is asked.

        Returns
        -------
        Table
            The answer.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> from eptaro.core.verbs.queries import Recap
        >>> book.ask(Recap("year"))["revenue"].tolist()
        [12]
        """
        return Table.of(self._asked_store.ask(query))

    @property
    def _asked_store(self) -> Store:
        return self._store

    def latest(self, level: str) -> Period:
        """Return the period of a level that holds the last day of the coverage.

        Parameters
        ----------
        level : str
            A level of the calendar.

        Returns
        -------
        Period
            The period.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-08-20"]}, date="on", measures="n=count()")
        >>> str(book.latest("quarter"))
        '2025-Q3'
        """
        return self.calendar.period_of(self.coverage.last, level)

    def prove(self, table: Table, *, sample: int = 40) -> int:
        """Make a random sample of a table's numbers again, one transaction at a time.

        Parameters
        ----------
        table : Table
            An answer of this book.
        sample : int
            How many rows to draw, beside the last one and those of totals.

        Returns
        -------
        int
            How many numbers agreed.

        Raises
        ------
        EptaroError
            With the whole trace, where a number was not found again.
        QuestionError
            Where the table has no numbers that can be traced.

        See Also
        --------
        trace : One number of a table, with its transactions.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.prove(book.recap("month"))
        2
        """
        from eptaro.core.proof.trace import prove  # what few programs need is loaded when they do

        return prove(table, sample)

    def report(
        self,
        path: str | Path,
        *,
        quality: Table | None = None,
        as_of: AsOf = None,
        title: str | None = None,
        sections: Sequence[str] | None = None,
        per: str | None = None,
        within: str | None = None,
        trailing: str | None = None,
        match: Match | None = None,
        goals: Goals | None = None,
        beside: Calendar | None = None,
        before: Book | None = None,
        since: AsOf = None,
        sheets: str | None = None,
        parts: str | None = None,
        years: int | None = None,
    ) -> Path:
        """Write a report to send on: a page (.html) without scripts, or a workbook (.xlsx).

        Parameters
        ----------
        path : str or Path
            The file; its ending decides.
        quality : Table, optional
            Of a page: what `inspect` found in the dates.
        as_of : date, optional
            The last day that is looked at.
        title, sections, per, within, trailing, match : optional
            Of a page: its title, its sections in order, the levels of the comparison and of the
            running total, the rolling window, and how prior spans are cut.
        goals, beside, before, since : optional
            Of a page: goals as `recap` takes them, a calendar whose periods are set beside those
            of the book, and an earlier keeping of it, with the last day that it was reported of.
        sheets, parts, years : optional
            Of a workbook: a sheet per period of this level or per value of this group column,
            the level of their rows, and how many years back they go.

        Returns
        -------
        Path
            The file.

        Raises
        ------
        InputError
            For another ending, or an option of the other kind of report.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     book.report(f"{folder}/page.html").name
        'page.html'
        """
        from eptaro.reports.report import ReportOptions, write_report

        if not self.rows:
            raise QuestionError("the book has no rows to report on")
        options = ReportOptions(
            *(title, sections, per, within, trailing, match, goals, beside),
            before=None if before is None else before._asked_store,
            since=since,
            sheets=sheets,
            parts=parts,
            years=years,
        )
        return write_report(self._asked_store, path, options, quality, as_of)

    def __repr__(self) -> str:
        about = self._store.about
        if not about.rows:
            return f"<{type(self).__name__} without rows>"
        names = about.groups.names
        by = f" by {', '.join(names)}" if names else ""
        return (
            f"<{type(self).__name__} of {count_noun(about.rows, 'row')}{by}, {about.coverage}, "
            f"{about.groups.count:,} groups{self._store.where}, calendar {about.calendar.name!r}>"
        )

    def _repr_html_(self) -> str:
        about = self._store.about
        facts = {
            "rows": f"{about.rows:,}",
            "coverage": str(about.coverage) if about.rows else "none",
            "groups": f"{about.groups.count:,} by {', '.join(self.by) or 'none'}",
            "calendar": about.calendar.describe(),
            "measures": ", ".join(f"{m.name} = {m.formula}" for m in about.measures),
            "source": about.source + self._store.where,
        }
        columns = [Column.text("book", [*facts]), Column.text("", [*facts.values()])]
        return Table(columns)._repr_html_()
