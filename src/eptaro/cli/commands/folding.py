"""The commands that keep partial books: fold and merge."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import BOOKINGS, DEMO, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.lean import leave_pandas_out
from eptaro.cli.options import CalendarOptions, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.cli.settings import Settings
from eptaro.cli.told import loudness_options, tell
from eptaro.daybook import Daybook


@click.command(
    cls=HeadedCommand,
    examples=(
        ("A small book that answers at once", f"fold {BOOKINGS} --by route --out bookings.parquet"),
        ("What the config says, to a book", f"fold {DEMO} --out book.parquet"),
        ("Only the cars", f"fold {BOOKINGS} --where \"fare_class = 'car'\" --out cars.parquet"),
    ),
)
@data_options
@reading_options
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="The book, a small Parquet file.",
)
@calendar_options
@loudness_options
def fold(data: DataOptions, reading: ReadingOptions, out: Path, rules: CalendarOptions) -> None:
    """Fold transactions to a book that every command takes instead of files."""
    if data.only:
        raise click.UsageError("a book holds everything; leave --only out")
    target = _book_path(out)
    if data.as_of != "latest":
        raise click.UsageError("a book holds everything; leave --as-of out")
    book = Settings(rules).book(data, reading)
    _tell(book, book.write(target))


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


def _tell(book: Daybook, path: Path) -> None:
    tell(f"{book.rows:,} rows in {book.groups.count:,} groups, {book.coverage}, written to {path}")
