"""`Daybook`: transactions folded to one cell per group and day, ready for the verbs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from eptaro.book import Book
from eptaro.core.expressions.tree import Name
from eptaro.core.kernels.dispatch import KERNEL
from eptaro.core.measures.measure import Measures
from eptaro.core.query.book_options import merge_facts
from eptaro.core.query.query import ADJUSTMENT, AsOf, By
from eptaro.core.query.view import View
from eptaro.core.verbs.queries import Restated
from eptaro.core.verbs.store import MemoryStore, Store
from eptaro.errors import InputError, NoRowsError, QuestionError, as_path, count_noun
from eptaro.inputs.options import AddOptions, FileOptions, ReadOptions, SqlOptions, takes
from eptaro.paths import StoragePath, names_folder
from eptaro.progress import log
from eptaro.storage.layout import NAME
from eptaro.table import Table
from eptaro.timeouts import TIMEOUT, waiting_at_most


class Daybook(Book):
    """Transactions folded to one cell per group and day, with calendar, coverage and measures.

    Parameters
    ----------
    table : frame or mapping
        Any frame that speaks the Arrow C stream protocol, or a mapping of column names to arrays.
    measures : str, Measure, several of these, or a mapping of names to formulas
        What to calculate, written `name=how(column)`.
    date : str, optional
        The column of dates; without it the one column that can be dates is used, and `notes`
        say so.
    by : str or sequence of str, optional
        The group columns.
    calendar : Calendar or OwnCalendars, optional
        What cuts days into periods, by default civil years; `OwnCalendars` for groups' own.
    coverage : Span, str or mapping, optional
        The days that the data covers, by default first to last date, and the days off next to these
        within the month where all rows lie on workdays; those without rows are zeros. `months`
        (`weeks`, `quarters`, `halves`, `years`): to the ends of the first and last of these.
        `groups`: each group's begin with its first transaction; or a mapping of groups to spans.
    dates : DateRules, optional
        How the date column is read; without rules, only what is plainly a date is taken.
    zone : str, optional
        The time zone whose days are meant, where times have an offset, such as Europe/Lisbon.
    memory_limit : int, optional
        The most bytes of memory that the cells may take, by default four fifths of what is
        free; the others go to temporary files.
    formats : mapping of str to Format, optional
        How each is shown.
    workdays : Workdays, or a function of the coverage, optional
        Which days are worked, by default Monday to Friday.
    values : str or sequence of str, optional
        Further columns that `spread` and `histogram` look at.
    where : str, optional
        The condition that rows must meet, such as `fare_class = 'car'`; others are counted.
    numbers : {"strict", "infer"} or NumberRules
        How numbers in columns of text are written: plainly, as all of a column says, or by rules.
    lookups : mapping of files to keys, Lookup, or several of these, optional
        Tables whose columns rows take by a key, such as `{"ships.csv": "ship"}`.
    adjustments : str, optional
        The column, or an expression, of the period that rows are posted to: those to a higher one
        than the months of a year belong to the year of their date and to none of its months.
    across : Across or str, optional
        Columns that are read as rows, such as `2019..2024 as year, fares`.

    Raises
    ------
    InputError
        For a missing column.
    DateError
        For a date that cannot be read.
    MeasureError
        For a measure that cannot be calculated.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31"], "fare": [7]}, date="on",
    ...                   measures=["revenue=sum(fare)", "trips=count()"])
    >>> print(book.coverage, book.rows)
    2025-01-31..2025-01-31 1
    """

    @takes(ReadOptions)
    def __init__(self, table: Any, options: ReadOptions) -> None:
        from eptaro.engines.local import fold_table

        try:
            facts = options.book.facts(fold_table(table, options))
        except NoRowsError:  # what is empty answers without rows
            from eptaro.core.query.empty import empty_facts

            facts = empty_facts(options.book, "the table given")
        self._store: Store = _log_store(MemoryStore(facts))

    @property
    def _asked_store(self) -> Store:
        if ADJUSTMENT not in self._store.about.groups.names:
            return self._store
        from eptaro.core.verbs.layouts.adjustments import AdjustedStore

        return AdjustedStore(self._store)

    @classmethod
    @takes(FileOptions)
    def read(cls, paths: Any, options: FileOptions) -> Daybook:
        """Read and fold a file (the ending decides its kind), a pattern, or several as one.

        CSV (also packed: .gz, .bz2, .zst, .zip), Parquet (also a folder of it), Arrow,
        newline-delimited JSON, xlsx, xlsb and ods are read. CSV and Parquet stream: they may be
        larger than memory. A database is folded by `from_sql`. Whichever the engine, the book is
        the same, but for the last bits of sums of floats. The other parameters, and the errors,
        are those of `Daybook`.

        Parameters
        ----------
        paths : str, Path, sequence of these, or a Dask frame
            The files; a Dask frame for the engine `dask`.
        files : FileRules, optional
            How they are written, where their endings do not say it.
        engine : {"stream", "dask"}
            `stream` reads files piece by piece, `dask` on the workers of a cluster.
        client : Client or str, optional
            A Dask client, or the address of a scheduler; without it, workers on this machine.
        into : str or Path, optional
            A folder that the book is to lie in, shard by shard, which may be larger than memory;
            where there is one already, the rows are added to it.
        shards : int, optional
            Into how many shards groups are dealt, by default as many as make some million cells
            each. On a cluster, without `into`, the workers keep them; their client must stay.
        timeout : float
            Seconds after which a store or a cluster is given up that gives no answer.

        Returns
        -------
        Daybook
            The book of all their rows.

        Raises
        ------
        QuestionError
            For options that do not go with the engine, or with a folder.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     file = book.recap("month").write(f"{folder}/months.csv")
        ...     read = ep.Daybook.read(file, date="first", measures="revenue=sum(revenue)")
        ...     read.recap("year")["revenue"].tolist()
        [12]
        """
        with waiting_at_most(options.timeout):
            return cls._of(_log_store(_read_files(paths, options)))

    @classmethod
    @takes(SqlOptions)
    def from_sql(cls, url: str, what: str, options: SqlOptions) -> Daybook:
        """Fold a table (or a SELECT) inside its database; only cells come back.

        `queries` of the book shows what was asked. Sums of whole numbers and decimals are
        exact. The other parameters are those of `Daybook`.

        Parameters
        ----------
        url : str
            An address as SQLAlchemy has it.
        what : str
            A table, `schema.table`, or a query.
        only : Span, mapping, or several of these, optional
            Days and group values to which the database narrows the rows.
        where : str, optional
            The condition that rows must meet; the database works it out.
        timeout : float
            Seconds after which a database is given up that gives no answer.

        Returns
        -------
        Daybook
            The book of all rows that are left.

        Raises
        ------
        MeasureError
            For first and last, which need an order of rows.
        InputError
            With what the database refuses.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     url = f"sqlite:///{folder}/fares.db"
        ...     rows = ep.dimension("2025-01-01", "2025-01-31").to_database(url, "days")
        ...     days = ep.Daybook.from_sql(url, "days", date="date", measures="n=count()")
        ...     days.recap("month")["n"].tolist()
        [31]
        """
        from eptaro.engines.databases.fold import fold_database

        with waiting_at_most(options.timeout):
            folded = fold_database(url, what, options)
        return cls._of(_log_store(MemoryStore(options.book.facts(folded))))

    @classmethod
    def open(cls, path: str | Path, *, client: Any = None, timeout: float = TIMEOUT) -> Daybook:
        """Open a book that `write` wrote, or that files were folded into.

        Parameters
        ----------
        path : str or Path
            Its file or folder.
        client : Client or str, optional
            Of a folder: a Dask cluster, or its scheduler's address, whose workers all reach the
            folder and answer questions shard by shard.
        timeout : float
            Seconds after which a store or a cluster is given up that gives no answer.

        Returns
        -------
        Daybook
            The book; it has no transactions to trace.

        Raises
        ------
        InputError
            Where the file is missing, is no book, or is damaged.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     kept = book.write(f"{folder}/book.parquet")
        ...     ep.Daybook.open(kept).measures
        (Measure('revenue=sum(fare)'),)
        """
        as_path(path)  # raises where it is none
        with waiting_at_most(timeout):
            place = StoragePath.of(path)
            if not place.is_file() and (place / NAME).is_file():
                from eptaro.sharded.store import ShardStore

                return cls._of(ShardStore.open(place, client, timeout))
            from eptaro.storage.bookfile import open_book

            folded, options = open_book(place)
            return cls._of(MemoryStore(options.facts(folded), place))

    def write(self, path: str | Path) -> Path | str:
        """Write the book to a Parquet file, or a new folder, that `Daybook.open` reads back.

        Parameters
        ----------
        path : str or Path
            The file; it is written beside its place and renamed. With a `/` at its end, a folder
            of shards, which more rows can be added to.

        Returns
        -------
        Path or str
            The file or folder; of an object store, its address.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     kept = book.write(f"{folder}/book.parquet")
        ...     ep.Daybook.open(kept).recap("year")["revenue"].tolist()
        [12]
        """
        if names_folder(path):
            from eptaro.sharded.adding import put_folded
            from eptaro.storage.metadata import options_of

            place, facts = StoragePath.of(path), self._store.facts
            put_folded(place, facts.folded, options_of(facts), new=True)
            return place.name if place.local is None else Path(path)
        from eptaro.storage.bookfile import write_book

        as_path(path)  # raises where it is none
        return write_book(self._store.facts, StoragePath.of(path))

    @takes(AddOptions)
    def add(
        self, what: str | Path | Sequence[str | Path] | Daybook, options: AddOptions
    ) -> Daybook:
        """Return the book with more rows, all of them or, if anything fails, none.

        A book that was opened is kept with them: its file is written anew; of its folder, where
        files are read as those before were but for the options given, only the shards and months
        that rows touch. Who has the book open sees it as it was.

        Parameters
        ----------
        what : str, Path, several of these, or Daybook
            The files, or a book with the same groups and measures.
        replace_days : Span or str, optional
            Of a book in a folder: the days whose rows are taken out in the same step; all new ones
            lie in them.
        force : bool
            Count rows that are in the book already once more, rather than refuse them.
        date, dates, zone, files, numbers, lookups, across, adjustments : optional
            As for `Daybook.read`; by default what the book was read with.
        coverage, workdays : optional
            As for `Daybook.read`; the days covered and the holidays add to those of the book.

        Returns
        -------
        Daybook
            The book with these rows.

        Raises
        ------
        InputError
            Where rows are in it already, or lie outside of the days that they replace, or
            somebody else is writing; nothing has changed then.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> late = ep.Daybook({"on": ["2025-03-01"], "fare": [1]},
        ...                   date="on", measures="revenue=sum(fare)")
        >>> book.add(late).recap("year")["revenue"].tolist()
        [13]
        """
        store = self._store
        if not isinstance(what, Daybook | str | Path | list | tuple):
            raise InputError(
                f"a {type(what).__name__} is added as a book of its own: "
                f"book.add(Daybook(rows, date=..., by=..., measures=...))"
            )
        if not isinstance(store, MemoryStore):
            from eptaro.sharded.adding import add_rows

            rows = what._store.facts if isinstance(what, Daybook) else what
            return self._of(add_rows(store, rows, options))
        if options.replace_days is not None:
            raise InputError(
                "replace_days takes days out of a book in a folder; write this one to a folder "
                "first: book.write('bookings/')"
            )
        if not isinstance(what, Daybook):
            facts, left_out = store.facts, store.facts.folded.left
            before = FileOptions(
                measures=facts.measures,
                by=self.by,
                adjustments=self._adjustments_again(options),
                calendar=facts.own or facts.calendar,
                where=None if left_out is None else left_out.where,
            )
            joined_options = options.over(before)
            work = joined_options.workdays or facts.workdays
            what = self.read(what, **replace(joined_options, workdays=work).non_defaults())
        merged = self.merge(what, force=options.force)
        if store.file is None:
            return merged
        from eptaro.storage.bookfile import write_book

        write_book(merged._store.facts, store.file)
        return self._of(MemoryStore(merged._store.facts, store.file))

    def merge(self, other: Daybook, *, force: bool = False) -> Daybook:
        """Return the book that one fold over the rows of both would have made.

        Parameters
        ----------
        other : Daybook
            A book with the same groups, measures and calendar.
        force : bool
            Count rows that are in both twice rather than refuse them.

        Returns
        -------
        Daybook
            The book of the rows of both.

        Raises
        ------
        InputError
            Where the two differ, or rows of the other are in this one already.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> late = ep.Daybook({"on": ["2025-03-01"], "fare": [1]},
        ...                   date="on", measures="revenue=sum(fare)")
        >>> book.merge(late).recap("year")["revenue"].tolist()
        [13]
        """
        if not isinstance(other, Daybook):
            raise InputError(f"{other!r} is not a Daybook")
        return self._of(
            MemoryStore(merge_facts(self._store.facts, other._store.facts, force=force))
        )

    def spread_over_days(self, shape: Daybook | None = None, measure: str | None = None) -> Daybook:
        """Return a book dated by months, or other periods, with its sums spread over their days.

        A plan by the month can then be asked beside daily rows, also to date: what is due by the
        k-th of n days is k / n of the sum, or, with a `shape`, what share of its measure the same
        period of the year before had reached by the same day. Whole numbers and decimals are dealt
        out in whole units (cents), which add up to the sum exactly.

        Parameters
        ----------
        shape : Daybook, optional
            A book dated by the day, with the same group columns, whose prior year is followed;
            periods of which that is not known are spread evenly.
        measure : str, optional
            Which measure of it, by default the first.

        Returns
        -------
        Daybook
            A book in memory, dated by the day, with the same groups and names of measures.

        Raises
        ------
        QuestionError
            For a book dated by the day, and for measures that do not add up.

        Examples
        --------
        >>> import eptaro as ep
        >>> plan = ep.Daybook({"month": ["2025-01-01"], "goal": [310]}, date="month",
        ...                   measures="goal=sum(goal)", dates=ep.DateRules(grain="month"))
        >>> plan.spread_over_days().accumulate("month")["goal_to_date"].tolist()[:3]
        [10, 20, 30]
        """
        from eptaro.core.verbs.goals import over_days

        about = self._store.about
        name = "day"
        names = about.groups.names
        while name in (*names, *(measure.name for measure in self.measures)):
            name += "_"
        view, follow = self._store.view(by=names), None
        if shape is not None:
            follow = _shape_of(shape, measure, view)
        columns = over_days(view, name, follow)
        return Daybook(
            Table(columns),
            date=name,
            by=names,
            measures={m.name: f"sum({Name(m.name)})" for m in self.measures},
            calendar=about.own or about.calendar,
            coverage=about.coverage,
            workdays=about.workdays,
            formats=about.folded.formats,
        )

    def _adjustments_again(self, options: AddOptions) -> str | None:
        """Return the column of periods that rows are posted to, which a book in memory does not
        keep; raises `QuestionError` where it is needed and not given.
        """
        if options.adjustments is None and ADJUSTMENT in self._store.about.groups.names:
            raise QuestionError("the book has adjustment periods: give adjustments= with the rows")
        return options.adjustments

    def restated(
        self,
        before: Daybook,
        per: str = "month",
        *,
        by: By = None,
        measures: Measures | None = None,
        as_of: AsOf = None,
    ) -> Table:
        """Return what has changed since an earlier keeping of the book, in periods that it covered.

        Both are looked at over the days that both cover, up to the last day of the earlier one.
        Columns: the groups, `period`, `first`, `last`, and for each measure `NAME`, `NAME_before`
        and `NAME_change`; only periods and groups that differ have rows. A trace of a change shows
        the rows of both.

        Parameters
        ----------
        before : Daybook
            The book as it was: that of last month, or of the rows known at an earlier date.
        per : str
            The level of the periods.
        by : str or sequence of str, optional
            Group columns, which both have.
        measures : str, Measure, several of these, or a mapping, optional
            Which measures are compared; all that both have, if unset.
        as_of : date, optional
            The last day that had been reported, by default that of the earlier coverage.

        Returns
        -------
        Table
            One row per period and group that differs.

        Raises
        ------
        QuestionError
            Where the two have no measure, or no day, in common.

        Examples
        --------
        >>> import eptaro as ep
        >>> rows = {"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}
        >>> then = ep.Daybook(rows, date="on", measures="revenue=sum(fare)")
        >>> now = ep.Daybook(rows | {"fare": [9, 5]}, date="on", measures="revenue=sum(fare)")
        >>> [*now.restated(then).select(["period", "revenue_before", "revenue"]).rows()]
        [{'period': '2025-01', 'revenue_before': 7, 'revenue': 9}]
        """
        from eptaro.core.verbs.comparison.restated import restated  # few programs need it

        if not isinstance(before, Daybook):
            raise InputError(f"{before!r} is not a Daybook")
        query = Restated(per, by=by, measures=measures, as_of=as_of)
        return Table.of(restated(self._store, before._store, query))

    @property
    def queries(self) -> tuple[str, ...]:
        """What a database was asked, where it folded the book."""
        return self._store.about.folded.queries

    @property
    def rejected(self) -> Table:
        """The rows whose date could not be read: row, value and reason. A book that was opened
        keeps only how many there are, which its answers state.
        """
        return Table.of(self._store.about.rejected)

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided while reading, on what evidence, and which groups may not add up. The
        groups of a folder are looked at where its cells are few enough to be read whole.
        """
        folded = self._store.at_hand.folded
        if not folded.groups.names:
            return folded.notes
        from eptaro.inputs.columns.codes import MOST_NAMED, doubts_of_groups

        doubts = [
            doubts_of_groups(name, coded.choices.to_list())
            for name, coded in folded.groups.coded.items()
            if len(coded.choices) <= MOST_NAMED
        ]
        return (*folded.notes, *(text for doubt in doubts for _, text in doubt))


def _shape_of(shape: Daybook, measure: str | None, plan: View) -> Any:
    """Return the shape of the prior year of a book, for the groups of a plan."""
    from eptaro.core.calendars.grain import level_of
    from eptaro.core.verbs.goals import prior_year_shape

    store = shape._store.on_calendar(plan.calendar, None)
    store = store if measure is None else store.measuring(measure)
    theirs = store.view(by=plan.groups.names)
    level = level_of(plan.facts.folded.grain)
    return prior_year_shape(plan.groups, theirs, store.about.measures[0], level)


def _log_store(store: Store) -> Store:
    """Return a store, and write to the log what was read and decided."""
    about = store.about
    count = f"{count_noun(about.rows, 'transaction')} of {about.source}"
    count += f", {count_noun(about.groups.count, 'group')}"
    log("read: %s, dated by the %s", count, about.folded.grain)
    log("calendar: %s", about.calendar.describe())
    log("coverage: %s", about.coverage)
    log("measures: %s", ", ".join(f"{m.name} = {m.formula}" for m in about.measures))
    log("kernel: %s", KERNEL)
    return store


def _read_files(paths: Any, options: FileOptions) -> Store:
    """Return the store of files, or of a Dask frame, that an engine folds."""
    from eptaro.engines.local import check_engine, fold_table

    check_engine(options.engine)
    source = str(paths) if isinstance(paths, Path) else paths
    if options.into is not None or options.shards is not None:
        options.check_date("it is looked for in books in memory alone")
        from eptaro.sharded.folding import fold_sharded

        return fold_sharded(source, options)
    if options.engine == "dask":
        options.check_date("it is looked for with engine='stream' alone")
        from eptaro.engines.cluster import fold_cluster

        return MemoryStore(options.book.facts(fold_cluster(source, options)))
    from eptaro.inputs.files.opening import open_files

    several = paths if isinstance(paths, list | tuple) else [paths]
    for path in several:
        as_path(path)  # raises where it is none; an address stays as it is written
    folded = fold_table(open_files([str(path) for path in several], options.files), options)
    return MemoryStore(options.book.facts(folded))
