"""Which engine folds, and the commands that keep partial books: fold and merge."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from eptaro.cli.options import calendar_options, data_options
from eptaro.cli.reading import reading_options, tell
from eptaro.daybook import Daybook
from eptaro.storage.layout import METADATA


def folded_by(
    engine: dict[str, Any], files: list[str], written: Any, asked: dict[str, Any]
) -> Daybook:
    """Fold by the engine that the options name; `written` says how files are written."""
    name = engine["engine"]
    if name != "sql" and (engine["table_name"] or engine["show_query"]):
        raise click.UsageError("--table and --show-query go with --engine sql")
    if name != "dask" and engine["client"]:
        raise click.UsageError("--client goes with --engine dask")
    if name == "stream":
        return Daybook.read(files, files=written, **asked)
    if asked["date"] is None:
        raise click.UsageError(f"Missing option '--date' (--engine {name} does not look for it).")
    if name != "sql":
        asked |= {"client": engine["client"], "patience": engine["patience"]}
        return Daybook.fold(files, engine=name, files=written, **asked)
    what = engine["table_name"] or written.query
    if len(files) != 1 or not what:
        raise click.UsageError("--engine sql takes one address, and --table NAME or --query SQL")
    book = Daybook.from_sql(files[0], what, **asked)
    if engine["show_query"]:
        for query in book.queries:
            tell(f"{query};\n")
    return book


def opened(files: list[str]) -> Daybook | None:
    """Return the book that files hold, several merged; None where they are transactions."""
    if not all(_is_book(Path(file)) for file in files):
        return None
    first, *others = (Daybook.open(file) for file in files)
    for book in others:
        first = first.merged(book)
    return first


def _is_book(path: Path) -> bool:
    """Return whether a file is a book, by its beginning alone."""
    if path.suffix != ".parquet" or not path.is_file():
        return False
    import pyarrow as pa
    from pyarrow import parquet

    try:
        return METADATA in (parquet.read_schema(path).metadata or {})
    except (pa.ArrowException, OSError, UnicodeError):
        return False


@click.command(
    epilog="Example: eptaro fold north.csv --date sold_on --by branch --measure "
    "'revenue=sum(fare)' --out north.parquet; then eptaro recap north.parquet --per month"
)
@data_options
@reading_options
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="The book, a small Parquet file.",
)
@calendar_options
def fold(**given: Any) -> None:
    """Fold transactions to a book that every command takes instead of files."""
    from eptaro.cli.settings import Settings

    if given.pop("only"):
        raise click.UsageError("a book holds everything; leave --only out")
    out, as_of = _book_path(given.pop("out")), given.pop("as_of")
    if as_of != "latest":
        raise click.UsageError("a book holds everything; leave --as-of out")
    book = Settings(given).book(given)
    _tell(book, book.write(out))


@click.command(epilog="Example: eptaro merge north.parquet south.parquet --out all.parquet")
@click.argument("books", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--out", type=click.Path(path_type=Path), required=True, metavar="FILE", help="The book of all."
)
@click.option("--force", is_flag=True, help="Count rows that are in two of them twice.")
def merge(books: tuple[Path, ...], out: Path, force: bool) -> None:
    """Merge books that were folded apart, as one fold over all their rows would have made."""
    out = _book_path(out)
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
