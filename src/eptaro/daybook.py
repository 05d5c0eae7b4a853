"""`Daybook`: transactions folded to one cell per group and day, ready for the verbs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from eptaro.core.questions.book_options import BookOptions, Calendars, Measures, Worked
from eptaro.core.questions.group_coverage import Coverage
from eptaro.core.questions.scope import By
from eptaro.core.tables.format import Format
from eptaro.errors import as_path
from eptaro.foldedbook import FoldedBook
from eptaro.rules.across import Across
from eptaro.rules.dates import DateRules, date_rules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers


class Daybook(FoldedBook):
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
        The days known, by default first to last date, and the days off next to these within the
        month where all rows lie on workdays; those without rows are zeros. `months` (`weeks`,
        `quarters`, `halves`, `years`): to the ends of the first and last of these. `groups`: each
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
