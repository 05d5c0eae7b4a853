"""Timestamps and numbers to days and times."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.calendars.days import Days, Ints
from eptaro.core.kernels.chosen import split
from eptaro.core.kernels.sidebyside import in_slices
from eptaro.inputs.dates.numbers import parse_numbers
from eptaro.inputs.dates.outcome import DAY_NS, Read, checked, finished, shifted
from eptaro.inputs.dates.texts import DAY
from eptaro.inputs.files.chunks import to_numpy
from eptaro.rules.dates import DateRules

_PER_DAY = {"s": 86_400, "ms": 86_400_000, "us": DAY, "ns": DAY_NS}


def from_stamps(column: pa.ChunkedArray, rules: DateRules) -> Read:
    """Return the days and times of timestamps without a zone."""
    whole = column.cast(pa.int64())
    stamps = to_numpy(pc.fill_null(whole, 0) if column.null_count else whole)
    return days_and_times(column, stamps, _PER_DAY[column.type.unit], rules)


def days_and_times(column: pa.ChunkedArray, stamps: Ints, per_day: int, rules: DateRules) -> Read:
    """Return days and times of local timestamps counted in units of which `per_day` make a day."""
    stamps = np.ascontiguousarray(stamps)
    found, times = np.empty(len(stamps), np.int32), np.empty(len(stamps), np.int64)
    in_slices(lambda of: split(stamps[of], per_day, found[of], times[of]), len(stamps))
    days: Days = found
    if rules.shift:
        days, times = shifted(days, times, DAY_NS, rules)
    return checked(column, days, times, rules)


def from_numbers(column: pa.ChunkedArray, rules: DateRules) -> Read:
    """Return the days of numbers, whichever way the rules say that these are written."""
    values = pc.fill_null(column.cast(pa.float64(), safe=False), 0.0)
    if pa.types.is_integer(column.type):
        whole = to_numpy(pc.fill_null(column, 0).cast(pa.int64()))
    else:
        floats = to_numpy(values)
        whole = np.where(np.abs(floats) < 2**62, floats, 0).astype(np.int64)
    blank = (
        to_numpy(column.is_null()) | np.isin(whole.astype(str), list(rules.blanks))
        if (rules.blanks or column.null_count)
        else None
    )
    return finished(parse_numbers(to_numpy(values), whole, rules), blank, rules)
