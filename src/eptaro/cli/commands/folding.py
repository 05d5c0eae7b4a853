"""The commands that write books: fold, books and merge."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import click
import numpy as np

from eptaro.cli.data_options import DataOptions, ReadingOptions, data_options, reading_options
from eptaro.cli.help import BOOKINGS, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import loudness_options, notify, shown_progress
from eptaro.cli.options import CalendarOptions, OutputOptions, calendar_options, output_options
from eptaro.cli.process import leave_pandas_out
from eptaro.cli.settings import Settings
from eptaro.cli.show import deliver
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.span import Span
from eptaro.core.results.column import Column, date_column
from eptaro.core.results.result import Result
from eptaro.daybook import Daybook
from eptaro.errors import InputError, count_noun
from eptaro.inputs.options import AddOptions, FileOptions
from eptaro.paths import StoragePath
from eptaro.presentation.words import calendar_in_words
from eptaro.progress import log_time
from eptaro.sharded.adding import add_rows
from eptaro.sharded.store import ShardStore
from eptaro.storage.folder.manifest import Commit
from eptaro.storage.layout import is_book


def _fold_into(folder: str, files: list[str], options: FileOptions, data: DataOptions) -> Daybook:
    """Return the book of a new folder."""
    if data.engine == "sql":
        raise click.UsageError("--engine sql folds in the database; give --out")
    if options.date is None:
        raise click.UsageError("Missing option '--date' (--into does not look for it).")
    settings = options.non_defaults()
    settings.pop("formats", None)
    settings |= {"engine": data.engine, "client": data.client, "timeout": data.timeout}
    return Daybook.read(files, **settings, into=folder)


def _add_files(folder: str, data: DataOptions, files: list[str], options: AddOptions) -> str:
    """Add files to a folder, read like those before unless options differ; return the result."""
    book = ShardStore.open(StoragePath.of(folder))
    where = data.rows.get("where")
    for name, files_given, own in (
        (
            "--measure",
            data.rows.get("measures", ()),
            [f"{m.name}={m.formula}" for m in book.about.measures],
        ),
        ("--by", data.by, book.manifest.by),
        ("--where", [where] if where else [], [book.manifest.reading.get("where")]),
    ):
        odd = [file for file in files_given if file not in own and file != "all"]
        if odd:
            raise InputError(
                f"{folder}: has {name} {', '.join(str(file) for file in own)}; leave {odd[0]!r} out"
            )
    store = add_rows(book, files, options)
    change = store.manifest.changes[-1]
    words = f"{count_noun(change.rows, 'row')} of {change.first}..{change.last} added to {folder}"
    if change.replaced:
        words += f", in the place of {change.removed:,} of {change.replaced}"
    elif days := _days_had_before(store.manifest.changes):
        notify(
            f"{days} had rows already, and both count now; if the new ones take their place, run "
            f"this again with --replace-days {change.first}..{change.last} --force"
        )
    about = store.about
    _report_left_out(about.folded.rejected_rows - book.about.folded.rejected_rows)
    groups = count_noun(about.groups.count, "group")
    return f"{words}: {count_noun(about.rows, 'row')} in {groups}, {about.coverage}"


def _report_left_out(rows: int) -> None:
    if rows:
        notify(f"{count_noun(rows, 'row')} rejected: no date that can be read")


def _days_had_before(changes: Sequence[Commit]) -> Span | None:
    """Return the days of the last change on which earlier ones brought rows as well, None for none;
    what each brought is known by its first and last day.
    """
    *earlier, last = (Span(change.first, change.last) for change in changes)
    both = [days for span in earlier if (days := span.overlap(last)) is not None]
    return Span.of(min(days.lo for days in both), max(days.hi for days in both)) if both else None


def shown_changes(folder: str) -> tuple[Result, list[str]]:
    """Return the changes of a book's folder, and lines on the book as a whole."""
    book = ShardStore.open(StoragePath.of(folder))
    manifest, changes = book.manifest, book.manifest.changes
    size = sum(file.size for file in manifest.files)
    lines = [
        f"{folder}: {count_noun(book.about.rows, 'row')}, {book.about.coverage}",
        f"groups: {', '.join(manifest.by) or 'none'}",
        f"measures: {', '.join(f'{m.name} = {m.formula}' for m in book.about.measures)}",
        calendar_in_words(book.about.calendar),
        f"{count_noun(manifest.groups, 'group')}, {count_noun(manifest.cells, 'cell')}, "
        f"{size / 2**20:,.1f} MiB; shards: {manifest.shards:,}, files: {len(manifest.files):,}",
    ]
    return _table(changes), lines


def _table(changes: tuple[Commit, ...]) -> Result:
    def text(name: str, words: list[str], description: str) -> Column:
        codes = np.where(np.array([bool(word) for word in words]), np.arange(len(words)), -1)
        choices = np.array([*words, None], object)[:-1]
        return Column.text(name, choices, codes, description=description)

    def days(name: str, given: list[str], description: str) -> Column:
        return date_column(name, np.array([*map(ordinal, given)], np.int64), None, description)

    return Result(
        [
            Column.of("change", "integer", np.arange(1, len(changes) + 1)),
            text("at", [change.at for change in changes], "When, in UTC"),
            Column.of(
                "rows", "integer", [change.rows for change in changes], description="Rows added"
            ),
            days("first", [change.first for change in changes], "Their first day"),
            days("last", [change.last for change in changes], "Their last day"),
            text(
                "replaced", [change.replaced for change in changes], "The days that lost their rows"
            ),
            Column.of(
                "removed",
                "integer",
                np.array([change.removed for change in changes]),
                np.array([bool(change.replaced) for change in changes]),
                description="How many rows these were",
            ),
            text(
                "files", [", ".join(change.files) for change in changes], "Where the rows came from"
            ),
        ]
    )


@click.command(
    cls=HeadedCommand,
    examples=(
        ("A small book that answers at once", f"fold {BOOKINGS} --by route --out bookings.parquet"),
        ("A book that may outgrow memory", f"fold {BOOKINGS} --by route --into bookings"),
        ("Only the cars", f"fold {BOOKINGS} --where \"fare_class = 'car'\" --out cars.parquet"),
    ),
)
@data_options
@reading_options
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    default=None,
    metavar="FILE",
    help="The book, a small Parquet file.",
)
@option(
    OUTPUT,
    "--into",
    default=None,
    metavar="FOLDER",
    help="The book, a folder that may be larger than memory; if it is there, rows are added, read "
    "as those before were.",
)
@option(
    OUTPUT,
    "--shards",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    help="For a new folder: the number of shards that groups are spread over.",
)
@option(
    OUTPUT,
    "--replace-days",
    default=None,
    metavar="A..B",
    help="For a folder: replace the rows of these days with the new ones, in one step.",
)
@option(
    OUTPUT, "--force", is_flag=True, help="For a folder: add rows even if they are in it already."
)
@calendar_options
@loudness_options
def fold(
    data: DataOptions,
    reading: ReadingOptions,
    out: Path | None,
    into: str | None,
    shards: int | None,
    replace_days: str | None,
    force: bool,
    rules: CalendarOptions,
) -> None:
    """Summarise transactions into a book that every command takes in place of files."""
    if (out is None) == (into is None):
        raise click.UsageError("Give --out FILE, or --into FOLDER.")
    if data.only:
        raise click.UsageError("a book holds everything; leave --only out")
    if data.as_of != "latest":
        raise click.UsageError("a book holds everything; leave --as-of out")
    if out is not None:
        for name, value in (("shards", shards), ("replace-days", replace_days), ("force", force)):
            if value:
                raise click.UsageError(f"--{name} goes with --into")
        target = _book_path(out)
        book = Settings(rules).daybook(data, reading)
        _report_written(book, book.write(target))
        return
    if reading.rejected is not None:
        raise click.UsageError("--rejected goes with --out")
    leave_pandas_out()
    assert into is not None
    settings = Settings(rules)
    if is_book(into):
        if shards is not None:
            raise click.UsageError(f"--shards {shards}: {into} is there, and has its shards")
        files, more = settings.files_to_add(data, reading)
        with shown_progress(), log_time("read and added"):
            words = _add_files(
                into, data, files, replace(more, replace_days=replace_days, force=force)
            )
        notify(words)
        return
    if replace_days or force:
        raise click.UsageError(f"{into} is not there yet: there is nothing to replace or repeat")
    files, options = settings.rows_to_fold(data, reading)
    with shown_progress(), log_time("read and folded"):
        stored = _fold_into(into, files, replace(options, shards=shards), data)
    for note in stored.notes:
        notify(note)
    _report_left_out(stored._store.about.folded.rejected_rows)
    count = stored._store.about.groups.count
    notify(
        f"{count_noun(stored.rows, 'row')} in {count_noun(count, 'group')}, {stored.coverage}, "
        f"in {into}"
    )


@click.command(
    cls=HeadedCommand,
    examples=(("Two books as one", "merge bookings.parquet more.parquet --out all.parquet"),),
)
@click.argument("books", nargs=-1, required=True, type=click.Path(path_type=Path))
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="The book of all.",
)
@option(QUESTION, "--force", is_flag=True, help="Count rows twice that are in two of the books.")
def merge(books: tuple[Path, ...], out: Path, force: bool) -> None:
    """Merge books that were built separately, as if all their rows had been read at once."""
    out = _book_path(out)
    leave_pandas_out()
    first, *others = (Daybook.open(path) for path in books)
    for book in others:
        first = first.merge(book, force=force)
    _report_written(first, first.write(out))


def _book_path(path: Path) -> Path:
    """Return the path of a book, which must say that it is Parquet."""
    if path.suffix != ".parquet":
        raise click.UsageError(f"--out {path}: a book is a Parquet file; let its name end so.")
    return path


def _report_written(book: Daybook, path: Path | str) -> None:
    groups = count_noun(book._store.about.groups.count, "group")
    notify(f"{count_noun(book.rows, 'row')} in {groups}, {book.coverage}, written to {path}")


@click.command(
    cls=HeadedCommand,
    examples=(("What is in a folder, since when, and from which files", "books bookings"),),
)
@click.argument("folder", metavar="FOLDER")
@output_options
def books(folder: str, output: OutputOptions) -> None:
    """Show what a book's folder holds: each change, its files, rows and days."""
    table, lines = shown_changes(folder)
    for line in lines:
        notify(line)
    deliver(table, output)
