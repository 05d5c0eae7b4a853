"""`ManyFiles`: several files read one after the other as one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from typing import TypeVar

import pyarrow as pa

from eptaro.core.expressions.tree import Node
from eptaro.inputs.sources import Source, Unread, Wanted

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
