"""Options on which rows are asked about and what folds them, and the book that they come to."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import click

from eptaro.cli.help import ENGINE, FILES, GROUPS, KNOWN, QUESTION, option
from eptaro.cli.options import option_group
from eptaro.cli.told import tell
from eptaro.core.calendars.days import DateLike
from eptaro.core.questions.book_options import Calendars, Worked
from eptaro.core.tables.format import Format
from eptaro.daybook import Daybook
from eptaro.places import Place, is_stored, scheme_of
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers
from eptaro.storage.layout import METADATA, NAME
from eptaro.timeouts import wait_again, wait_at_most

ENGINES = ("stream", "dask", "sql")


@dataclass(frozen=True)
class DataOptions:
    """The files, their columns, what is measured, what is looked at, and what folds it."""

    files: tuple[str, ...]
    date: str | None
    measures: tuple[str, ...]
    by: tuple[str, ...]
    where: str | None
    lookups: tuple[str, ...]
    columns_across: str | None
    only: tuple[str, ...]
    as_of: DateLike
    coverage: str | None
    engine: Literal["stream", "dask", "sql"]
    client: str | None
    timeout: float
    table_name: str | None
    show_query: bool

    @property
    def narrowed(self) -> list[str] | None:
        """What the question is narrowed to."""
        return list(self.only) or None

    def grouped(self, book: Daybook) -> list[str]:
        """Return the group columns; where groups keep calendars, the column that they go by."""
        own = book._store.about.own
        return [own.column] if own is not None and not self.by else list(self.by)


@dataclass(frozen=True)
class RowsToFold:
    """Which rows are folded to a book, and how."""

    files: list[str]
    date: str | None
    measures: list[str]
    by: list[str]
    calendar: Calendars
    coverage: Any
    dates: DateRules
    written: FileRules
    formats: dict[str, Format]
    workdays: Worked
    values: tuple[str, ...] = ()
    where: str | None = None
    numbers: Numbers = None
    lookups: Lookups = None
    across: str | None = None


def _wait_at_most(context: click.Context, _: click.Parameter, seconds: float) -> float:
    """Let the seconds hold for all that a command waits for."""
    token = wait_at_most(seconds)
    context.call_on_close(lambda: wait_again(token))
    return seconds


where_option = option(
    GROUPS,
    "--where",
    metavar="CONDITION",
    default=None,
    help="Only rows that meet a condition: \"fare_class = 'car' and fare > 20\".",
)
data_options = option_group(
    "data",
    DataOptions,
    click.argument("files", metavar="[FILE]...", nargs=-1),
    option(QUESTION, "--date", metavar="COLUMN", default=None, help="The column of dates."),
    option(
        QUESTION,
        "--measure",
        "measures",
        metavar="SPEC",
        multiple=True,
        help="What to calculate: name=how(column), such as revenue=sum(fare), "
        "trips=count(), typical=mean(fare). May be given again.",
    ),
    option(
        GROUPS,
        "--by",
        metavar="COLUMN",
        multiple=True,
        help="A group column, or one worked out: size=band(fare, 0, 50, 100). Of a book or a "
        "config, all stands for all of them. May be given again.",
    ),
    where_option,
    option(
        GROUPS,
        "--lookup",
        "lookups",
        rare=True,
        metavar="FILE:KEY",
        multiple=True,
        help="A table whose columns rows take by a key: ships.csv:ship, or ships.csv:ship=name. "
        "May be given again.",
    ),
    option(
        FILES,
        "--columns-across",
        metavar="COLUMNS",
        default=None,
        help="Columns that are read as rows: '2019..2024 as year, fares'.",
    ),
    option(
        GROUPS,
        "--only",
        metavar="WHAT",
        multiple=True,
        help="Narrow to a span (2025-05-06..2025-06-17, 2024-Q3..2025-Q2, 2024-03..), a period "
        "(2025-Q2) or a value of a column (route=Norrow-Fenholm). May be given again.",
    ),
    option(
        KNOWN,
        "--as-of",
        metavar="DATE",
        default="latest",
        show_default=True,
        help="The last day looked at: latest (the last of the data), today or a date.",
    ),
    option(
        KNOWN,
        "--coverage",
        metavar="A..B",
        default=None,
        help="The days the data covers, if more than its first to last date; months (weeks, "
        "quarters, halves, years): whole ones; groups: each group's from its first transaction on; "
        "FILE.csv: as its columns of groups, first and last say.",
    ),
    option(
        ENGINE,
        "--engine",
        type=click.Choice(ENGINES),
        default="stream",
        show_default=True,
        help="What folds: stream reads files piece by piece, dask on a cluster, sql inside the "
        "database whose address stands for FILE.",
    ),
    option(
        ENGINE,
        "--client",
        metavar="ADDRESS",
        default=None,
        help="With dask: a scheduler.  [default: workers on this machine]",
    ),
    option(
        ENGINE,
        "--timeout",
        type=click.FloatRange(1),
        metavar="SECONDS",
        default=60,
        show_default=True,
        callback=_wait_at_most,
        help="How long a store, a database or a cluster may give no answer.",
    ),
    option(
        ENGINE,
        "--table",
        "table_name",
        metavar="NAME",
        default=None,
        help="With sql: the table to fold (or --query).",
    ),
    option(
        ENGINE, "--show-query", is_flag=True, help="With sql: print what the database is asked."
    ),
)


def folded(rows: RowsToFold, asked: DataOptions) -> Daybook:
    """Fold rows by the engine that the options name."""
    if asked.engine != "sql" and (asked.table_name or asked.show_query):
        raise click.UsageError("--table and --show-query go with --engine sql")
    if asked.engine != "dask" and asked.client:
        raise click.UsageError("--client goes with --engine dask")
    if asked.engine != "stream" and rows.across is not None:
        raise click.UsageError("columns across are read with --engine stream")
    if asked.engine != "stream" and rows.date is None:
        raise click.UsageError(
            f"Missing option '--date' (--engine {asked.engine} does not look for it)."
        )
    if asked.engine == "sql":
        return _folded_in_database(rows, str(rows.date), asked)
    return Daybook.read(
        rows.files,
        date=rows.date,
        measures=rows.measures,
        engine=asked.engine,
        client=asked.client,
        by=rows.by,
        calendar=rows.calendar,
        coverage=rows.coverage,
        dates=rows.dates,
        files=rows.written,
        formats=rows.formats,
        workdays=rows.workdays,
        values=rows.values,
        where=rows.where,
        numbers=rows.numbers,
        lookups=rows.lookups,
        across=rows.across,
        timeout=asked.timeout,
    )


def _folded_in_database(rows: RowsToFold, date: str, asked: DataOptions) -> Daybook:
    what = asked.table_name or rows.written.query
    if len(rows.files) != 1 or not what:
        raise click.UsageError("--engine sql takes one address, and --table NAME or --query SQL")
    if rows.numbers not in (None, "strict"):
        raise click.UsageError("with --engine sql numbers must be numbers; leave their rules out")
    book = Daybook.from_sql(
        rows.files[0],
        what,
        date=date,
        measures=rows.measures,
        by=rows.by,
        calendar=rows.calendar,
        coverage=rows.coverage,
        dates=rows.dates,
        formats=rows.formats,
        workdays=rows.workdays,
        where=rows.where,
        lookups=rows.lookups,
    )
    if asked.show_query:
        for query in book.queries:
            tell(f"{query};\n")
    return book


def opened(files: list[str], data: DataOptions | None = None) -> Daybook | None:
    """Return the book that files hold, several merged; None where they are transactions."""
    if not all(is_book(file) for file in files):
        return None
    more: dict[str, Any] = {}
    if data is not None and data.engine == "dask" and data.client:
        more = {"client": data.client, "timeout": data.timeout}
    first, *others = (Daybook.open(file, **more) for file in files)
    for book in others:
        first = first.merge(book)
    return first


def is_book(path: str) -> bool:
    """Return whether a file or folder is a book, by its beginning alone."""
    if not path.endswith(".parquet") and scheme_of(path) is None:
        return (Path(path) / NAME).is_file()
    if scheme_of(path) is not None and not is_stored(path):
        return False
    place = Place.of(path)
    if place.ending != ".parquet":
        return (place / NAME).is_file()
    if not place.is_file():
        return False
    import pyarrow as pa
    from pyarrow import parquet

    try:
        return METADATA in (parquet.read_schema(place.opened()).metadata or {})
    except (pa.ArrowException, OSError, UnicodeError):
        return False
