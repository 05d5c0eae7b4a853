"""`Repeated`: values of rows that stand group by group, each group with the same spans of days."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints


@dataclass(frozen=True, eq=False)
class Repeated:
    """Few values that stand for those of many rows, which are written out when they are needed.

    Each value is that of `each` rows one after the other, and after the last one it begins anew.

    >>> rows = Repeated(np.array([7, 9]), 2, 8)
    >>> np.asarray(rows).tolist(), int(rows[3]), rows[np.array([0, 4])].tolist()
    ([7, 7, 9, 9, 7, 7, 9, 9], 9, [7, 7])
    """

    values: NDArray[Any]
    each: int
    rows: int

    @classmethod
    def of_groups(cls, groups: int, spans: int) -> Repeated:
        """Return the group of each row, from 0."""
        return cls(np.arange(groups), spans, groups * spans)

    @classmethod
    def of_spans(cls, values: NDArray[Any], groups: int) -> Repeated:
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


ManyInts: TypeAlias = Ints | Repeated
ManyFlags: TypeAlias = Flags | Repeated
