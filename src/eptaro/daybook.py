"""`Daybook`: transactions folded to one cell per group and day, ready for the verbs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eptaro.core.calendars.span import Span
from eptaro.core.questions.book_options import BookOptions, Calendars, Measures, Worked
from eptaro.core.questions.group_coverage import Coverage
from eptaro.core.questions.scope import By, Scope
from eptaro.core.tables.format import Format
from eptaro.errors import as_path
from eptaro.kept import KeptBook
from eptaro.rules.across import Across
from eptaro.rules.dates import DateRules, date_rules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers

if TYPE_CHECKING:
    from eptaro.engines.files import Engine


class Daybook(KeptBook):
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
        The days known, by default first to last date; those without rows are zeros. `groups`: each
        group's begin with its first transaction; or a mapping of groups to spans.
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
    across : Across or str, optional
        Columns that are read as rows, such as `2019..2024 as year, fares`.
    named : str
        More measures by keyword, such as `revenue="sum(fare)"`.

    Raises
    ------
    InputError
        For a missing column or an empty table.
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

    def __init__(
        self,
        table: Any,
        *,
        measures: Measures = (),
        date: str | None = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        memory_limit: int | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        where: str | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
        across: Across | str | None = None,
        **named: str,
    ) -> None:
        from eptaro.engines.local import fold_table
        from eptaro.inputs.columns.cleaned import cleaned
        from eptaro.inputs.columns.long import lengthened
        from eptaro.inputs.columns.lookedup import looked_up

        asked = BookOptions.of(
            measures, by, calendar, coverage, formats, workdays, values, where, date, named
        )
        rules = date_rules(dates, zone)
        source = cleaned(looked_up(lengthened(table, across), lookups, rules), numbers)
        folded = fold_table(
            source, date, asked.by, asked.planes, rules, memory_limit, asked.formulas
        )
        self._settle(folded, asked)

    @classmethod
    def read(
        cls,
        path: str | Path | Sequence[str | Path],
        *,
        measures: Measures = (),
        date: str | None = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        files: FileRules | None = None,
        memory_limit: int | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        where: str | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
        across: Across | str | None = None,
        **named: str,
    ) -> Daybook:
        """Read and fold a file (the ending decides its kind), a pattern, or several as one.

        CSV (also packed: .gz, .zst), Parquet (also a folder of it), Arrow, newline-delimited
        JSON, xlsx, xlsb and ods are read. CSV and Parquet stream: they may be larger than
        memory. The other parameters, and the errors, are those of `Daybook`.

        Parameters
        ----------
        path : str, Path, or sequence of these
            The files.
        files : FileRules, optional
            How they are written, where their endings do not say it.

        Returns
        -------
        Daybook
            The book of all their rows.
        """
        from eptaro.inputs.files.opening import open_files

        paths = list(path) if isinstance(path, list | tuple) else [path]
        for one in paths:
            as_path(one)  # raises where it is none; an address stays as it is written
        return cls(
            open_files([str(one) for one in paths], files),
            measures=measures,
            date=date,
            by=by,
            calendar=calendar,
            coverage=coverage,
            dates=date_rules(dates, zone),
            memory_limit=memory_limit,
            formats=formats,
            workdays=workdays,
            values=values,
            where=where,
            numbers=numbers,
            lookups=lookups,
            across=across,
            **named,
        )

    @classmethod
    def fold(
        cls,
        what: Any,
        *,
        date: str,
        measures: Measures = (),
        engine: Engine = "stream",
        client: Any = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        files: FileRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        where: str | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
        patience: float = 60,
        **named: str,
    ) -> Daybook:
        """Fold files by the engine named; whichever it is, the book is the same.

        A database is folded by `from_sql`. Sums of floats may differ in their last bits. The
        other parameters, and the errors, are those of `Daybook`.

        Parameters
        ----------
        what : str, Path, sequence of these, or a Dask frame
            The files; a Dask frame for the engine `dask`.
        engine : {"stream", "local", "dask"}
            `stream` reads files piece by piece, `local` into memory at once, `dask` on the
            workers of a cluster.
        client : Client or str, optional
            A Dask client, or the address of a scheduler; without it, workers on this machine.
        files : FileRules, optional
            How files are written.
        patience : float
            Seconds after which a cluster is given up that does not answer or has no workers.

        Returns
        -------
        Daybook
            The book of all their rows.
        """
        from eptaro.engines.files import fold_files

        asked = BookOptions.of(
            measures, by, calendar, coverage, formats, workdays, values, where, date, named
        )
        folded = fold_files(
            *(what, engine, date, asked.by, asked.planes, date_rules(dates, zone), files),
            *(client, patience, asked.formulas, numbers, lookups),
        )
        return cls._of(folded, asked)

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
        coverage: Coverage = None,
        dates: DateRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        where: str | None = None,
        lookups: Lookups = None,
    ) -> Daybook:
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
        """
        from eptaro.engines.databases.fold import fold_database

        asked = BookOptions.of(measures, by, calendar, coverage, formats, workdays, (), where)
        scope, rules = Scope.of_database(only), date_rules(dates)
        folded = fold_database(
            url, what, date, asked.by, asked.planes, rules, scope, asked.formulas, lookups
        )
        return cls._of(folded, asked)
