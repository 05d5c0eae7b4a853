"""The shape of cells in Parquet: one row per occupied cell, one column per part of a plane.

The day is called `day`, and the parts of a plane `WHAT:COLUMN:PART`, for example
`sum:fare:whole`. In a book's file group columns are called `group:NAME`; in the files of a book's
folder `group` is a number (see `eptaro.storage.folder`). The metadata of a file, under
`eptaro-book`, is JSON: of all files each plane's kind and scale, and of a book's file its version,
measures, calendar, coverage and inputs too.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from eptaro.errors import EptaroError, InputError
from eptaro.paths import StoragePath, is_stored, scheme_of
from eptaro.version import BOOK_MARK

VERSION = 3


NAME = "manifest.json"  # of the file that makes a folder a book


PICKED = ("value", "time", "row")


def part_name(what: str, column: str, part: str) -> str:
    """Return the name of a file column.

    >>> part_name("sum", "fare", "whole")
    'sum:fare:whole'
    """
    return f"{what}:{column}:{part}"


def with_metadata(table: Any, about: dict[str, Any]) -> Any:
    """Return an Arrow table with metadata that describe it."""
    import json

    metadata = json.dumps(about, ensure_ascii=False).encode("utf-8")
    return table.replace_schema_metadata({BOOK_MARK: metadata})


@contextmanager
def damage(name: object, what: str = "book") -> Iterator[None]:
    """Turn whatever damaged files lead to into `InputError`."""
    try:
        yield
    except EptaroError:
        raise
    except Exception as error:
        words = f"{type(error).__name__}: {error}"
        raise InputError(f"{name}: is a damaged {what}: {' '.join(words.split())}") from None


def is_book(path: str) -> bool:
    """Return whether a file or folder is a book, by its beginning alone."""
    if not path.endswith(".parquet") and scheme_of(path) is None:
        return (Path(path) / NAME).is_file()
    if scheme_of(path) is not None and not is_stored(path):
        return False
    place = StoragePath.of(path)
    if place.ending != ".parquet":
        return (place / NAME).is_file()
    if not place.is_file():
        return False
    import pyarrow as pa
    from pyarrow import parquet

    try:
        return BOOK_MARK in (parquet.read_schema(place.open_input()).metadata or {})
    except (pa.ArrowException, OSError, UnicodeError):
        return False
