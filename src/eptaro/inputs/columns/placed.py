"""Where the rows of some columns stand in the input that they were read from."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa

from eptaro.core.calendars.days import Ints
from eptaro.inputs.sources import Source


@dataclass(frozen=True, eq=False)
class Placed:
    """Rows of a source: so many from the `first` on, or those at `places` where some are left out.

    Places are counted from 0, and what is told to people from 1.
    """

    source: Source
    first: int = 0
    places: Ints | None = None

    def number(self, row: int) -> int:
        """Return the number that one of the rows has in the input, from 1."""
        place = self.first + row if self.places is None else int(self.places[row])
        return self.source.numbered(place)

    def told(self, row: int) -> str:
        """Return the source and one of the rows as errors tell them."""
        return f"{self.source.name}: row {self.number(row):,}"

    def digits(self, name: str, count: int) -> pa.ChunkedArray:
        """Return a column of these rows as it was written."""
        texts = self.source.digits(name)
        return (
            texts.slice(self.first, count)
            if self.places is None
            else texts.take(pa.array(self.places))
        )
