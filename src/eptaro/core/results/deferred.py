"""Columns that are calculated when they are asked for, and arrays of repeated values."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache, cached_property, partial
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.results.column import Column


@dataclass(frozen=True, eq=False)
class TiledArray:
    """Few values that represent those of many rows, which are written out when they are needed.

    Each value is that of `each` rows one after the other, and after the last one it begins anew.

    >>> rows = TiledArray(np.array([7, 9]), 2, 8)
    >>> np.asarray(rows).tolist(), int(rows[3]), rows[np.array([0, 4])].tolist()
    ([7, 7, 9, 9, 7, 7, 9, 9], 9, [7, 7])
    """

    values: NDArray[Any]
    each: int
    rows: int

    @classmethod
    def of_groups(cls, groups: int, spans: int) -> TiledArray:
        """Return the group of each row, from 0."""
        return cls(np.arange(groups), spans, groups * spans)

    @classmethod
    def of_spans(cls, values: NDArray[Any], groups: int) -> TiledArray:
        """Return what each row has of its span."""
        return cls(values, 1, groups * len(values))

    def __len__(self) -> int:
        return self.rows

    def __getitem__(self, rows: Any) -> Any:
        """Return the values of one row, or of several."""
        if isinstance(rows, slice):
            return self._written_out[rows]
        return self.values[rows // self.each % len(self.values)]

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return the value of every row."""
        return self._written_out if dtype is None else self._written_out.astype(dtype)

    @cached_property
    def _written_out(self) -> NDArray[Any]:
        run = np.repeat(self.values, self.each) if self.each > 1 else self.values
        times = self.rows // len(run) if len(run) else 0
        return run if times == 1 else np.tile(run, times)


ManyInts: TypeAlias = Ints | TiledArray
ManyFlags: TypeAlias = Flags | TiledArray


class LazyColumn:
    """A column of known name and length that is calculated when it is asked for.

    >>> column = LazyColumn("trips", 2, lambda: Column.of("", "integer", [3, 5]))
    >>> column.name, len(column), column.take(slice(1, 2)).made().to_list()
    ('trips', 2, [5])
    """

    def __init__(self, name: str, rows: int, make: Callable[[], Column]) -> None:
        self.name, self._rows, self._make = name, rows, make
        self._made: Column | None = None

    def __len__(self) -> int:
        return self._rows

    def made(self) -> Column:
        """Return the column, calculated once."""
        if self._made is None:
            self._made = self._make().named(self.name)
        return self._made

    def take(self, places: NDArray[Any] | slice) -> LazyColumn:
        """Return the values at some places, to be calculated later as well."""
        rows = len(range(self._rows)[places]) if isinstance(places, slice) else len(places)
        return LazyColumn(self.name, rows, lambda: self.made().take(places))


AnyColumn: TypeAlias = Column | LazyColumn


def take_lazy(columns: Sequence[AnyColumn], places: NDArray[Any] | TiledArray) -> list[LazyColumn]:
    """Return columns at some places, to be calculated when they are asked for."""

    def make(column: AnyColumn) -> Column:
        made = column if isinstance(column, Column) else column.made()
        return made.take(np.asarray(places))

    return [LazyColumn(c.name, len(places), partial(make, c)) for c in columns]


def lazy_group(
    names: Sequence[str], rows: int, make: Callable[[], list[Column]]
) -> list[LazyColumn]:
    """Return columns that are all calculated when one of them is asked for."""
    all_made = cache(make)
    return [
        LazyColumn(name, rows, lambda at=at: all_made()[at])  # type: ignore[misc]
        for at, name in enumerate(names)
    ]
