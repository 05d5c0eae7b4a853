"""Values that are new to the whole book, whichever of its groups are looked at."""

from __future__ import annotations

import numpy as np

from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.planes import Plane
from eptaro.core.aggregation.selected import ValueLists
from eptaro.core.calendars.days import LAST_DAY, Ints
from eptaro.core.kernels.gathering import running_sums
from eptaro.core.kernels.sorting import met_first
from eptaro.core.results.column import Column


def first_days_of(cells: Cells, plane: Plane) -> Ints:
    """Return the first day of each value of a plane of codes in any group, `(n_values,) int64`."""
    tally = cells.tallies[plane]
    assert isinstance(tally, ValueLists)
    days = cells.axis.all_keys[tally.cell] % cells.axis.days + cells.axis.first_day
    found = np.full(int(tally.value.max(initial=-1)) + 1, LAST_DAY, np.int64)
    np.minimum.at(found, tally.value, days)
    return found


def new_to_all(cells: Cells, plane: Plane, first: Ints, lo: Ints, hi: Ints) -> Column:
    """Return how many values each range lo..hi of cells holds on the first day of all.

    A value that several groups have on that day is new in each of them. `first` is the first day
    of each value in the whole book, `lo` and `hi` are `(n_ranges,) int64`.
    """
    tally, start, stop = cells.items(plane, lo, hi)
    keys = cells.axis.all_keys[tally.cell]
    group, day = np.divmod(keys, cells.axis.days)
    fresh = met_first(group, tally.value) & (day + cells.axis.first_day == first[tally.value])
    before = running_sums(fresh.astype(np.int64))
    return Column.of("", "integer", before[stop] - before[start])
