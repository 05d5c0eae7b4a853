"""Several files, or a folder of them, as one source."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa

from eptaro.core.expressions.tree import Node
from eptaro.errors import InputError
from eptaro.inputs.files.parquet import ParquetFile, unreadable
from eptaro.inputs.sources import Source, Unread, Wanted
from eptaro.places import Place
from eptaro.rules.files import FileRules

Piece = TypeVar("Piece")


class ManyFiles(Source):
    """Several files of one kind, one after the other."""

    def __init__(self, parts: list[Source]) -> None:
        self.parts = parts
        self.name = f"{parts[0].name} and {len(parts) - 1} more"
        self.of_text, self.decimal = parts[0].of_text, parts[0].decimal
        self.undecided = any(part.undecided for part in parts)

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of all files."""
        return tuple(name for part in self.parts for name in part.inputs)

    def names(self) -> list[str]:
        """Return the names of the first file's columns."""
        return self.parts[0].names()

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns of every file."""
        return self._in_turn(part.batches(wanted) for part in self.parts)

    def pieces(self, wanted: Wanted, where: Node) -> Iterator[pa.Table | Unread]:
        """Yield the wanted columns of every file, but for rows that a file knows not to count."""
        return self._in_turn(part.pieces(wanted, where) for part in self.parts)

    def _in_turn(self, of_parts: Iterable[Iterator[Piece]]) -> Iterator[Piece]:
        for number, (part, pieces) in enumerate(zip(self.parts, of_parts, strict=True)):
            for piece in pieces:
                self.share = (number + (part.share or 0.0)) / len(self.parts)
                yield piece

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns of every file."""
        for part in self.parts:
            yield from part.whole()

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        columns = [part.digits(name) for part in self.parts]
        return pa.chunked_array([c for column in columns for c in column.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of all files, whatever their order."""
        joined = " ".join(sorted(part.fingerprint() for part in self.parts))
        return hashlib.blake2b(joined.encode(), digest_size=16).hexdigest()


def parquet_folder(folder: Place, rules: FileRules) -> list[ParquetFile]:
    """Return the Parquet files of a folder and the folders in it, in the order of their paths.

    Folders called `NAME=VALUE` add a column to the rows of the files in them. Files and
    folders whose names start with `_` or `.` are left out.
    """
    from pyarrow import dataset

    files = [
        found.place.path
        for found in folder.within()
        if found.inside.endswith(".parquet")
        and not any(part[0] in "_." for part in found.inside.split("/"))
    ]
    if not files:
        raise InputError(f"{folder}: is a folder without Parquet files")
    _opened(folder, files[0], rules).names()  # an error that names the file, not the folder
    try:
        found = dataset.dataset(
            files,
            format="parquet",
            filesystem=folder.system,
            partitioning="hive",
            partition_base_dir=folder.path,
        )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(folder, error) from None
    return [
        _opened(folder, part.path, rules, dataset.get_partition_keys(part.partition_expression))
        for part in found.get_fragments()
    ]


def _opened(
    folder: Place, path: str, rules: FileRules, stated: Mapping[str, Any] | None = None
) -> ParquetFile:
    inside = path[len(folder.path) + 1 :]
    local = folder.local
    if local is not None:
        return ParquetFile(Path(folder.name) / inside, rules, stated=stated)
    return ParquetFile(Path(path), rules, stated=stated, place=folder / inside)
