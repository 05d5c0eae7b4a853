"""Where the rows of some columns stand in the input that they were read from."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.kept import Keeping
from eptaro.inputs.sources import Source


@dataclass(frozen=True, eq=False)
class Placed:
    """Rows of a source from the `first` on, or those of them that are kept.

    Places are counted from 0, and what is told to people from 1.
    """

    source: Source
    first: int = 0
    keeping: Keeping | None = None

    @property
    def places(self) -> Ints | None:
        """The place of each in the source, None where no row was left out."""
        return None if self.keeping is None else self.keeping.places + self.first

    def number(self, row: int) -> int:
        """Return the number that one of the rows has in the input, from 1."""
        place = row if self.keeping is None else int(self.keeping.places[row])
        place += self.first
        return self.source.numbered(place)

    def told(self, row: int) -> str:
        """Return the source and one of the rows as errors tell them."""
        return f"{self.source.name}: row {self.number(row):,}"

    def digits(self, name: str, count: int) -> pa.ChunkedArray:
        """Return a column of these rows as it was written."""
        texts, places = self.source.digits(name), self.places
        return texts.slice(self.first, count) if places is None else texts.take(pa.array(places))
