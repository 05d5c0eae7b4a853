"""`Daybook`: transactions folded to one cell per group and day, ready for the verbs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any, Literal, TypeAlias, get_args

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.merge import merge
from eptaro.core.questions.book_options import BookOptions, Calendars, Measures, Worked
from eptaro.core.questions.in_parts import in_own_calendars
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.questions.scope import AsOf, By, Scope
from eptaro.core.questions.view import Facts
from eptaro.core.tables.format import Format
from eptaro.core.tables.table import Table
from eptaro.core.verbs.accumulate import accumulate
from eptaro.core.verbs.card import card
from eptaro.core.verbs.compare.compare import compare
from eptaro.core.verbs.compare.counterparts import Match
from eptaro.core.verbs.recap import recap
from eptaro.core.verbs.rhythm import rhythm
from eptaro.core.verbs.spread import histogram, spread
from eptaro.core.verbs.trail import trail
from eptaro.errors import InputError, QuestionError, as_path, unknown
from eptaro.rules.dates import DateRules, date_rules
from eptaro.rules.files import FileRules

Engine: TypeAlias = Literal["stream", "local", "dask"]


class Daybook(Facts):
    """Transactions folded to one cell per group and day, with calendar, coverage and measures.

    `table` is any frame that speaks the Arrow C stream protocol, or a mapping of column
    names to arrays; `date` names its date column, `by` its group columns, `measures`
    are written `name=how(column)`. `coverage` is the span that the data speaks for, by
    default its first to last date; days of it without rows are zeros, also up to an as-of
    date by which there were none. `dates` are the `DateRules` under which the date
    column is read; without any, only what is plainly a date is taken. `memory_limit` is
    the most bytes that the cells may take, by default four fifths of what is free.
    `formats` say how measures are shown, `workdays` which days are worked. `calendar` may
    be `OwnCalendars`, where each value of a group column keeps one. `values` names columns
    whose values `spread` and `histogram` look at although no measure works on them.

    Raises `InputError` for a missing column or an empty table, `DateError` for a date
    that cannot be read, `MeasureError` for a measure that cannot be calculated.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31"], "fare": [7]}, date="on",
    ...                   measures=["revenue=sum(fare)", "trips=count()"])
    >>> print(book.coverage, book.rows)
    2025-01-31..2025-01-31 1
    """

    def __init__(
        self,
        table: Any,
        *,
        measures: Measures,
        date: str | None = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Span | str | None = None,
        dates: DateRules | None = None,
        memory_limit: int | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
    ) -> None:
        from eptaro.engines.local import fold_table

        asked = BookOptions.of(measures, by, calendar, coverage, formats, workdays, values)
        rules = date_rules(dates)
        self._settle(fold_table(table, date, asked.by, asked.planes, rules, memory_limit), asked)

    def _settle(self, folded: Folded, asked: BookOptions) -> None:
        facts = asked.facts(folded)
        super().__init__(**{one.name: getattr(facts, one.name) for one in fields(Facts)})

    @classmethod
    def _of(cls, folded: Folded, asked: BookOptions) -> Daybook:
        """Return the book of transactions that are folded already."""
        book = cls.__new__(cls)
        book._settle(folded, asked)
        return book

    def using(self, calendar: Calendar | OwnCalendars) -> Daybook:
        """Return the same transactions on another calendar, or each company's on its own.

        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-05-01"]}, date="on", measures="n=count()")
        >>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        >>> str(book.using(fiscal).latest("year"))
        'FY2026'
        """
        asked = BookOptions(self.measures, [], calendar, self.coverage, workdays=self.workdays)
        return Daybook._of(self.folded, asked)

    @classmethod
    def read(
        cls,
        path: str | Path | Sequence[str | Path],
        *,
        measures: Measures,
        date: str | None = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Span | str | None = None,
        dates: DateRules | None = None,
        files: FileRules | None = None,
        memory_limit: int | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
    ) -> Daybook:
        """Read and fold a file (the ending decides its kind), a pattern, or several as one.

        CSV (also packed: .gz, .zst), Parquet (also a folder of it), Arrow, newline-delimited
        JSON, xlsx, xlsb and ods are read; `files` is a `FileRules` saying how they are
        written. CSV and Parquet stream: they may be larger than memory. Where `date` is
        left out and one column alone can be dates, it is used and `notes` say so. The
        other arguments and the errors are those of `Daybook`.
        """
        paths = list(path) if isinstance(path, list | tuple) else [path]
        for one in paths:
            as_path(one)  # raises where it is none
        from eptaro.inputs.files.opening import open_files

        return cls(
            open_files([str(one) for one in paths], files),
            measures=measures,
            date=date,
            by=by,
            calendar=calendar,
            coverage=coverage,
            dates=dates,
            memory_limit=memory_limit,
            formats=formats,
            workdays=workdays,
            values=values,
        )

    @classmethod
    def fold(
        cls,
        what: Any,
        *,
        date: str,
        measures: Measures,
        engine: Engine = "stream",
        client: Any = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Span | str | None = None,
        dates: DateRules | None = None,
        files: FileRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        patience: float = 60,
    ) -> Daybook:
        """Fold files by the engine named; whichever it is, the book is the same.

        `stream` reads them piece by piece, `local` into memory at once, `dask` on the
        workers of a cluster: `client` is a Dask client, the address of a scheduler, or
        None for workers on this machine; `what` may then also be a Dask frame; a cluster that
        does not answer, or has no workers, is given up after `patience` seconds. A database
        is folded by `from_sql`. Sums of floats may differ in their last bits.
        """
        if engine not in get_args(Engine):
            raise QuestionError(unknown("engine", engine, get_args(Engine)))
        asked = BookOptions.of(measures, by, calendar, coverage, formats, workdays, values)
        rules, what = date_rules(dates), str(what) if isinstance(what, Path) else what
        if engine == "dask":
            from eptaro.engines.cluster import fold_cluster

            return cls._of(
                fold_cluster(
                    what, date, asked.by, asked.planes, rules, files, client, patience=patience
                ),
                asked,
            )
        from eptaro.engines.local import fold_source
        from eptaro.inputs.files.opening import open_files
        from eptaro.inputs.sources import in_memory

        paths = [what] if isinstance(what, str) else [str(path) for path in what]
        source = open_files(paths, files)
        if engine == "local":
            source = in_memory(source)
        return cls._of(fold_source(source, date, asked.by, asked.planes, rules), asked)

    @classmethod
    def from_sql(
        cls,
        url: str,
        what: str,
        *,
        date: str,
        measures: Measures,
        by: By = None,
        only: Mapping[str, Any] | Span | Sequence[Mapping[str, Any] | Span] | None = None,
        calendar: Calendars = None,
        coverage: Span | str | None = None,
        dates: DateRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
    ) -> Daybook:
        """Fold a table (or a SELECT) inside its database; only cells come back.

        `url` is an address as SQLAlchemy has it; `what` a table, `schema.table`, or a query.
        `only` narrows by a span of days and by group values in the database itself.
        `queries` of the book shows what was asked. Sums of whole numbers and decimals are
        exact. Raises `MeasureError` for first and last, which need an order of rows, and
        `InputError` with what the database refuses.
        """
        from eptaro.engines.sql import fold_database

        asked = BookOptions.of(measures, by, calendar, coverage, formats, workdays)
        scope = Scope.of_database(only)
        rules = date_rules(dates)
        return cls._of(fold_database(url, what, date, asked.by, asked.planes, rules, scope), asked)

    @property
    def queries(self) -> tuple[str, ...]:
        """What a database was asked, where it folded the book."""
        return self.folded.queries

    def merged(self, other: Daybook, *, force: bool = False) -> Daybook:
        """Return the book that one fold over the rows of both would have made.

        Raises `InputError` where the two differ in groups, measures or calendar, or where
        rows of the other are in this one already, unless `force` counts them twice.
        """
        if not isinstance(other, Daybook):
            raise InputError(f"{other!r} is no Daybook to merge with")
        mine, theirs = self.own or self.calendar, other.own or other.calendar
        if (self.measures, mine) != (other.measures, theirs):
            raise InputError(
                f"the books differ: {[*self.measures]} in {mine.describe()}, against "
                f"{[*other.measures]} in {theirs.describe()}"
            )
        lo, hi = min(self.coverage.lo, other.coverage.lo), max(self.coverage.hi, other.coverage.hi)
        asked = BookOptions(self.measures, [], mine, Span.of(lo, hi), workdays=self.workdays)
        return Daybook._of(merge(self.folded, other.folded, force=force), asked)

    def write(self, path: str | Path) -> Path:
        """Write the book to a Parquet file that `Daybook.open` reads back."""
        from eptaro.storage.writing import write_book

        return write_book(self, as_path(path))

    @classmethod
    def open(cls, path: str | Path) -> Daybook:
        """Open a book that `write` wrote; raises `InputError` where the file is none."""
        from eptaro.storage.reading import open_book

        return cls._of(*open_book(as_path(path)))

    @property
    def aside(self) -> Table:
        """The rows whose date could not be read: row, value and reason."""
        return self.folded.aside or Table([])

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided while reading, and on what evidence."""
        return self.folded.notes

    recap = in_own_calendars(recap)
    accumulate = in_own_calendars(accumulate)

    def prove(self, table: Table, *, sample: int = 40) -> int:
        """Trace a random sample of a table's rows and its last; return how many numbers agreed.

        Raises `EptaroError` with the whole trace where one does not.
        """
        from eptaro.core.proof.prove import prove  # what few programs need is loaded when they do

        return prove(table, sample)

    def latest(self, level: str) -> Period:
        """Return the period of a level that holds the last day of the coverage.

        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-08-20"]}, date="on", measures="n=count()")
        >>> str(book.latest("quarter"))
        '2025-Q3'
        """
        return self.calendar.period_of(self.coverage.last, level)

    rhythm = in_own_calendars(rhythm)
    spread = in_own_calendars(spread)
    histogram = in_own_calendars(histogram)

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
        sheets: str | None = None,
        parts: str | None = None,
        years: int | None = None,
    ) -> Path:
        """Write a report to send on: a page (.html) or a workbook (.xlsx).

        A page is one file that needs no network and no script; its options are `title`,
        `sections` (some of headline, to date, comparison, trend, groups, rhythm, quality,
        definitions, proof, in order), `per` (level of the comparison), `within` (of the
        running total), `trailing` and `match`; `quality` is what `inspect` found. A workbook
        has a sheet per period of the level `sheets` (or per value of that group column) with
        rows per `parts`, live totals and charts, over the last `years`. Raises `InputError`
        for another ending or option.
        """
        from eptaro.reports.report import ReportOptions, write_report

        asked = ReportOptions(title, sections, per, within, trailing, match, sheets, parts, years)
        return write_report(self, path, asked, quality, as_of)

    card = in_own_calendars(card)
    trail = in_own_calendars(trail)
    compare = in_own_calendars(compare)

    def __repr__(self) -> str:
        by = f" by {', '.join(self.groups.names)}" if self.groups.names else ""
        return (
            f"<Daybook of {self.rows:,} rows{by}, {self.coverage}, "
            f"{self.groups.count:,} groups, calendar {self.calendar.name!r}>"
        )
