"""The commands that keep partial books: fold and merge."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.data import DataOptions, data_options, is_book
from eptaro.cli.help import BOOKINGS, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.into import added, folded_into, shown_changes
from eptaro.cli.lean import leave_pandas_out
from eptaro.cli.options import CalendarOptions, OutputOptions, calendar_options, output_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.cli.screen.deliver import deliver
from eptaro.cli.settings import Settings
from eptaro.cli.told import loudness_options, shown_progress, step, tell
from eptaro.daybook import Daybook


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
    help="Of a new folder: into how many shards groups are dealt.",
)
@option(
    OUTPUT,
    "--replace-days",
    default=None,
    metavar="A..B",
    help="Of a folder: take the rows of these days out and put the new ones in, in one step.",
)
@option(OUTPUT, "--force", is_flag=True, help="Of a folder: add rows that are in it already.")
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
    """Fold transactions to a book that every command takes instead of files."""
    if (out is None) == (into is None):
        raise click.UsageError("Give --out FILE, or --into FOLDER.")
    if data.only:
        raise click.UsageError("a book holds everything; leave --only out")
    if data.as_of != "latest":
        raise click.UsageError("a book holds everything; leave --as-of out")
    if out is not None:
        for name, given in (("shards", shards), ("replace-days", replace_days), ("force", force)):
            if given:
                raise click.UsageError(f"--{name} goes with --into")
        target = _book_path(out)
        book = Settings(rules).book(data, reading)
        _tell(book, book.write(target))
        return
    leave_pandas_out()
    assert into is not None
    if is_book(into):
        if shards is not None:
            raise click.UsageError(f"--shards {shards}: {into} is there, and has its shards")
        with shown_progress(), step("read and added"):
            told = added(into, data, reading, rules, replace_days, force=force)
        tell(told)
        return
    if replace_days or force:
        raise click.UsageError(f"{into} is not there yet: there is nothing to replace or repeat")
    with shown_progress(), step("read and folded"):
        made = folded_into(into, Settings(rules).rows_to_fold(data, reading), data, shards)
    for note in made.notes:
        tell(note)
    count = made._store.about.groups.count
    tell(f"{made.rows:,} rows in {count:,} groups, {made.coverage}, in {into}")


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
@option(QUESTION, "--force", is_flag=True, help="Count rows that are in two of them twice.")
def merge(books: tuple[Path, ...], out: Path, force: bool) -> None:
    """Merge books that were folded apart, as one fold over all their rows would have made."""
    out = _book_path(out)
    leave_pandas_out()
    first, *others = (Daybook.open(path) for path in books)
    for book in others:
        first = first.merged(book, force=force)
    _tell(first, first.write(out))


def _book_path(path: Path) -> Path:
    """Return the path of a book, which must say that it is Parquet."""
    if path.suffix != ".parquet":
        raise click.UsageError(f"--out {path}: a book is a Parquet file; let its name end so.")
    return path


def _tell(book: Daybook, path: Path | str) -> None:
    count = book._store.about.groups.count
    tell(f"{book.rows:,} rows in {count:,} groups, {book.coverage}, written to {path}")


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
        tell(line)
    deliver(table, output)
