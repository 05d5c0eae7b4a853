"""`Batch`: transactions as arrays of one length."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import reading
from eptaro.core.kernels.reading import Extent
from eptaro.core.results.column import Column
from eptaro.record import record

ROWS_PER_CHUNK = 1 << 16  # rows per step: the temporaries stay in the processor's cache


@record
class Batch:
    """Transactions as arrays of one length: days, coded groups and measured columns.

    `times` are nanoseconds since the day's midnight, where these are known, and over 24 hours
    where a day starts late; `first_row` is the place of the first in the whole input.
    """

    days: NDArray[np.int32]
    groups: Mapping[str, Categorical]
    values: Mapping[str, Column]
    distinct: Mapping[str, Categorical] = field(default_factory=dict)
    times: reading.Times | None = None
    first_row: int = 0
    places: Ints | None = None  # of each in the whole input, where some were left out
    inputs: Mapping[str, Column] = field(default_factory=dict)  # what formulas work on, if kept
    hours: Mapping[str, Column] = field(default_factory=dict)  # of those of them that have times

    def __len__(self) -> int:
        return len(self.days)

    @cached_property
    def ends(self) -> tuple[int, int]:
        """The first and the last day."""
        return reading.min_max(self.days)

    def extent(self, name: str) -> Extent:
        """Return the least and the largest value of a measured column, and how many are blank.

        Calculated once. Blank values that are not NaN represent whatever is stored there.
        """
        if name not in self._extents:
            self._extents[name] = extent_of(self.values[name])
        return self._extents[name]

    @cached_property
    def _extents(self) -> dict[str, Extent]:
        return {}

    def only(self, keep: Flags) -> Batch:
        """Return the transactions that are kept. `keep` is `(n_rows,)`."""

        def keep_codes(column: Categorical) -> Categorical:
            return Categorical(column.codes[keep], column.choices)

        places: Ints = np.flatnonzero(keep)
        return replace(
            self,
            days=self.days[keep],
            groups={name: keep_codes(column) for name, column in self.groups.items()},
            values={name: column.take(places) for name, column in self.values.items()},
            distinct={name: keep_codes(column) for name, column in self.distinct.items()},
            times=None if self.times is None else self.times[keep],
            places=None if self.places is None else self.places[keep],
            inputs={name: column.take(places) for name, column in self.inputs.items()},
            hours={name: column.take(places) for name, column in self.hours.items()},
        )

    def days_of(self, rows: slice) -> Batch:
        """Return the days and times of some transactions, without what they measure."""
        times = None if self.times is None else self.times[rows]
        return Batch(self.days[rows], {}, {}, {}, times)


def extent_of(column: Column) -> Extent:
    """Return the least and the largest value of a column of numbers, and how many are blank."""
    missing = 0 if column.valid is None else int(np.count_nonzero(~column.valid))
    if column.kind == "float":
        extent = reading.float_extent(column.data)
        if missing:
            assert column.valid is not None
            missing = int(np.count_nonzero(~column.valid & ~np.isnan(column.data)))
        return extent._replace(blanks=extent.blanks + missing)
    if not len(column):
        return Extent(0, 0, missing)
    if column.data.dtype == object:
        return Extent(column.data.min(), column.data.max(), missing)
    return Extent(*reading.min_max(column.data), missing)
