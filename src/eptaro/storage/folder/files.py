"""The Parquet files of a book's folder: written with a digest, and read only if it is the same."""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable
from typing import Any

import pyarrow as pa

from eptaro.digest import digest_of
from eptaro.errors import InputError
from eptaro.paths import StoragePath
from eptaro.record import Record, record

# What the program calls the files of shards; nothing else in a folder is its own.
SHARD_FILE = re.compile(r"shards/\d{4,}/[a-z0-9-]+-([0-9a-f]{12})[0-9a-f]{8}\.parquet")
TOKEN = re.compile(r"[0-9a-f]{12}")


@record
class WrittenFile(Record):
    """A file that was written: its place in the folder, its bytes, and their digest."""

    path: str
    size: int
    digest: str


def new_token() -> str:
    """Return what distinguishes the files of one change from those of others, in their names."""
    return uuid.uuid4().hex[:12]


def write_file(
    folder: StoragePath, shard: int, what: str, token: str, fill: Callable[[Any], None]
) -> WrittenFile:
    """Write a file of a shard under a name that nothing else has or will have."""
    name = re.sub(r"[^a-z0-9-]", "-", what)
    path = f"shards/{shard:04d}/{name}-{token}{uuid.uuid4().hex[:8]}.parquet"
    sink = pa.BufferOutputStream()
    fill(sink)
    content = sink.getvalue()
    (folder / path).write(lambda file: file.write(content))
    return WrittenFile(path, content.size, digest_of(content))


def read_file(folder: StoragePath, path: str, digest: str) -> pa.Table:
    """Return what is in a file of a shard.

    Raises `InputError` where it is missing, or holds other bytes than were written.
    """
    from pyarrow import parquet

    place = folder / path
    if place.local is not None:
        with place.describe_errors("read"):
            content = pa.memory_map(place.path).read_buffer()
    else:
        content = pa.py_buffer(place.read())
    if digest_of(content) != digest:
        raise InputError(
            f"{place}: is damaged: it does not hold what was written; restore it, or fold again"
        )
    file = parquet.ParquetFile(pa.BufferReader(content), page_checksum_verification=True)
    return file.read()  # in half the time of `read_table`, which expects a data set


def write_table(table: pa.Table, sink: Any, **options: Any) -> None:
    """Write a table as Parquet with a checksum for each page."""
    from pyarrow import parquet

    parquet.write_table(table, sink, write_page_checksum=True, **options)
