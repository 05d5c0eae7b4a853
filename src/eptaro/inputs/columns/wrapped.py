"""`Wrapped`: a source that hands on what another one has, changed in one way; `Held` in memory."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pyarrow as pa

from eptaro.inputs.sources import Source


class Wrapped(Source):
    """Another source; all that is not changed here is the other's."""

    def __init__(self, source: Source) -> None:
        self.source, self.name = source, source.name
        self.of_text, self.decimal = source.of_text, source.decimal
        self.undecided, self.has_rules = source.undecided, source.has_rules

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of all inputs that it reads."""
        return self.source.inputs

    @property
    def share(self) -> float | None:  # type: ignore[override]
        """How much has been read."""
        return self.source.share

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided of the source's columns."""
        return self.source.notes

    def names(self) -> list[str]:
        """Return the names of all columns."""
        return self.source.names()

    def numbered(self, place: int) -> int:
        """Return the number that a row has in the input."""
        return self.source.numbered(place)

    def settles_numbers(self, name: str, texts: Any) -> bool:
        """Return whether rules read all of a column's different texts as numbers."""
        return self.source.settles_numbers(name, texts)

    def as_numbers(self, column: pa.ChunkedArray, placed: Any, name: str) -> pa.ChunkedArray:
        """Return a column of text as numbers, as the source reads them."""
        return self.source.as_numbers(column, placed, name)

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        return self.source.digits(name)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns as they stand."""
        return self.source.whole()

    def fingerprint(self) -> str:
        """Return what tells the source from others."""
        return self.source.fingerprint()
