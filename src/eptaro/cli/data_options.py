"""Options of the rows that are read and how they are folded, and the book that results."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import wraps
from pathlib import Path
from typing import Any, Literal

import click

from eptaro.book import Book
from eptaro.cli.help import DATES, ENGINE, FILES, GROUPS, KNOWN, OUTPUT, option
from eptaro.cli.messages import notify
from eptaro.cli.options import Command, add_options, given_options, options_of, take_options
from eptaro.core.calendars.days import DateLike
from eptaro.core.results.format import Format, parse_format
from eptaro.daybook import Daybook
from eptaro.inputs.options import FileOptions, ReadOptions
from eptaro.record import Record, record
from eptaro.rules import DateRules, FileRules, NumberRules, Numbers, parse_lookup, usual_delimiter
from eptaro.storage.layout import is_book
from eptaro.timeouts import wait_again, wait_at_most

_KINDS: tuple[Any, ...] = (DateRules, FileRules, NumberRules)


@record
class ReadingOptions(Record):
    """What was given of how dates, files and numbers are written, of each kind of rules."""

    rules: Mapping[type[Any], Mapping[str, Any]]
    numbers: Literal["strict", "infer"] | None
    rejected: Path | None

    @property
    def flags(self) -> list[str]:
        """The options that were given, but for that of rows rejected."""
        words = [options_of(kind)[name].flag for kind in _KINDS for name in self.rules[kind]]
        return words if self.numbers is None else [*words, "--numbers"]

    def number_rules(self, others: Numbers = None) -> Numbers:
        """Return the number rules of the options, over others such as those of a config.

        Raises `click.UsageError` for `--numbers infer` beside single rules.
        """
        own = dict(self.rules[NumberRules])
        if not own:
            return self.numbers or others
        if self.numbers is not None:
            raise click.UsageError(f"--numbers {self.numbers} goes without rules of your own")
        if "decimal" in self.rules[FileRules]:
            own["decimal"] = self.rules[FileRules]["decimal"]
        return replace(others if isinstance(others, NumberRules) else NumberRules(), **own)

    def date_rules(self, others: DateRules | None = None) -> DateRules:
        """Return the date rules of the options, over others such as those of a config."""
        return replace(others or DateRules(), **self.rules[DateRules])

    def file_rules(self, others: FileRules | None = None) -> FileRules:
        """Return the file rules of the options, over others such as those of a config."""
        own, others = dict(self.rules[FileRules]), others or FileRules()
        if own.get("delimiter") in ("tab", "\\t"):
            own["delimiter"] = "\t"
        if others.delimiter == usual_delimiter(others.decimal):
            own.setdefault("delimiter", "")  # as it is usual beside the decimal mark
        return replace(others, **own)


_FOR_ONE = (
    option(
        DATES,
        "--rejected",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="The file that lists the rejected rows.  [default: FILE.rejected.csv]",
    ),
    option(
        FILES,
        "--numbers",
        type=click.Choice(["strict", "infer"]),
        default=None,
        help="How numbers in text are read: strict takes plain ones only; infer finds out from "
        "the whole column how they are written.  [default: strict]",
    ),
)


def reading_options(command: Command) -> Command:
    """Add the options on how files are read to a command, which takes them as `reading`."""

    @wraps(command)
    def run(**given: Any) -> Any:
        rules = {kind: given_options(take_options(kind, given)) for kind in _KINDS}
        single = {name: given.pop(name) for name in ("numbers", "rejected")}
        return command(**given, reading=ReadingOptions(rules, **single))

    decorated: Any = run
    for add in reversed(
        (
            add_options(DateRules, unset=True),
            _FOR_ONE[0],
            add_options(FileRules, unset=True),
            _FOR_ONE[1],
            add_options(NumberRules, unset=True),
        )
    ):
        decorated = add(decorated)
    return decorated  # type: ignore[no-any-return]


ENGINES = ("stream", "dask", "sql")


@record
class DataOptions(Record):
    """The files, what is specified about their rows and what is measured, what is looked at, and
    what folds it."""

    files: tuple[str, ...]
    rows: Mapping[str, Any]  # of the options of `ReadOptions`, those that were given
    only: tuple[str, ...]
    as_of: DateLike
    engine: Literal["stream", "dask", "sql"]
    client: str | None
    timeout: float
    table_name: str | None
    show_query: bool
    show: tuple[str, ...] = ()

    @property
    def formats(self) -> dict[str, Format]:
        """How measures are shown, by their names."""
        return dict(map(parse_format, self.show))

    @property
    def by(self) -> list[str]:
        """The group columns that are asked for."""
        return list(self.rows.get("by", ()))

    @property
    def narrowed(self) -> list[str] | None:
        """What the question is narrowed to."""
        return list(self.only) or None

    @property
    def flags(self) -> list[str]:
        """The options that only rows can be read by."""
        options, own = options_of(ReadOptions), ("by", "measures")  # which a book takes as well
        words = [options[name].flag for name in self.rows if name not in own]
        words += ["--table"] if self.table_name else []
        of_folder = self.engine == "dask" and self.client
        return [*words, "--engine"] if self.engine != "stream" and not of_folder else words

    def group_columns(self, book: Book) -> list[str]:
        """Return the group columns; where groups keep calendars, the column that they go by."""
        own = book._store.about.own
        return [own.column] if own is not None and not self.by else self.by


def _wait_at_most(context: click.Context, _: click.Parameter, seconds: float) -> float:
    """Let the seconds hold for all that a command waits for."""
    token = wait_at_most(seconds)
    context.call_on_close(lambda: wait_again(token))
    return seconds


where_option = add_options(ReadOptions, names=["where"], unset=True)
_AS_OF = option(
    KNOWN,
    "--as-of",
    metavar="DATE",
    default="latest",
    show_default=True,
    help="The last day included: latest (the last of the data), today or a date.",
)
_OTHERS = (
    option(
        GROUPS,
        "--only",
        metavar="WHAT",
        multiple=True,
        help="Narrow to a span (2025-05-06..2025-06-17, 2024-Q3..2025-Q2, 2024-03..), a period "
        "(2025-Q2, 'last complete month') or a value of a column (route=Norrow-Fenholm). "
        "May be given again.",
    ),
    option(
        OUTPUT,
        "--show",
        metavar="NAME=HOW",
        multiple=True,
        rare=True,
        help="How a measure is shown: conversion=percent, price=4 (decimals), revenue=€,0, "
        "delay=lower (less is better). May be given again.",
    ),
    option(
        ENGINE,
        "--engine",
        type=click.Choice(ENGINES),
        default="stream",
        show_default=True,
        help="Where rows are summarised: stream reads files piece by piece, dask on a cluster, "
        "sql inside the database whose address is given as FILE.",
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
        help="How long to wait for an answer from a store, a database or a cluster.",
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
_SINGLE = (
    *("files", "only", "as_of", "engine", "client", "timeout", "table_name", "show_query", "show"),
)


def data_options(command: Command) -> Command:
    """Add the options on rows to a command, which takes them as `data`."""

    @wraps(command)
    def run(**given: Any) -> Any:
        rows = given_options(take_options(ReadOptions, given))
        if "lookups" in rows:
            rows["lookups"] = [*map(parse_lookup, rows["lookups"])]
        single = {name: given.pop(name) for name in _SINGLE}
        return command(**given, data=DataOptions(rows=rows, **single))

    decorated: Any = run
    files = click.argument("files", metavar="[FILE]...", nargs=-1)
    for add in reversed((files, _AS_OF, add_options(ReadOptions, unset=True), *_OTHERS)):
        decorated = add(decorated)
    return decorated  # type: ignore[no-any-return]


def fold_inputs(files: list[str], options: FileOptions, data: DataOptions) -> Daybook:
    """Fold files by the engine that the options name."""
    if data.engine != "sql" and (data.table_name or data.show_query):
        raise click.UsageError("--table and --show-query go with --engine sql")
    if data.engine != "dask" and data.client:
        raise click.UsageError("--client goes with --engine dask")
    if data.engine != "stream" and options.date is None:
        raise click.UsageError(
            f"Missing option '--date' (--engine {data.engine} does not look for it)."
        )
    settings = options.non_defaults()
    if data.engine != "sql":
        settings |= {"engine": data.engine, "client": data.client, "timeout": data.timeout}
        return Daybook.read(files, **settings)
    file_rules = settings.pop("files", None)
    what = data.table_name or (file_rules.query if file_rules else None)
    if len(files) != 1 or not what:
        raise click.UsageError("--engine sql takes one address, and --table NAME or --query SQL")
    book = Daybook.from_sql(files[0], what, **settings)
    if data.show_query:
        for query in book.queries:
            notify(f"{query};\n")
    return book


def open_books(files: list[str], data: DataOptions | None = None) -> Daybook | None:
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
