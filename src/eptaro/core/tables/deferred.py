"""`Deferred`: a column that is worked out when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache, partial
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.tables.column import Column
from eptaro.core.tables.repeated import Repeated


class Deferred:
    """A column of known name and length that is worked out when it is asked for.

    >>> column = Deferred("trips", 2, lambda: Column.of("", "integer", [3, 5]))
    >>> column.name, len(column), column.take(slice(1, 2)).made().to_list()
    ('trips', 2, [5])
    """

    def __init__(self, name: str, rows: int, make: Callable[[], Column]) -> None:
        self.name, self._rows, self._make = name, rows, make
        self._made: Column | None = None

    def __len__(self) -> int:
        return self._rows

    def made(self) -> Column:
        """Return the column, worked out once."""
        if self._made is None:
            self._made = self._make().named(self.name)
        return self._made

    def take(self, places: NDArray[Any] | slice) -> Deferred:
        """Return the values at some places, to be worked out later as well."""
        rows = len(range(self._rows)[places]) if isinstance(places, slice) else len(places)
        return Deferred(self.name, rows, lambda: self.made().take(places))


AnyColumn: TypeAlias = Column | Deferred


def taken(columns: Sequence[AnyColumn], places: NDArray[Any] | Repeated) -> list[Deferred]:
    """Return columns at some places, to be worked out when they are asked for."""

    def make(column: AnyColumn) -> Column:
        made = column if isinstance(column, Column) else column.made()
        return made.take(np.asarray(places))

    return [Deferred(c.name, len(places), partial(make, c)) for c in columns]


def together(names: Sequence[str], rows: int, make: Callable[[], list[Column]]) -> list[Deferred]:
    """Return columns that are all worked out when one of them is asked for."""
    all_made = cache(make)
    return [
        Deferred(name, rows, lambda at=at: all_made()[at])  # type: ignore[misc]
        for at, name in enumerate(names)
    ]
