"""A column of numbers worked out for some rows at a time, on all processors."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from eptaro.core.kernels.sidebyside import at_once
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import join

# So few rows that what stands between a formula's steps is soon used again, so many that
# handing them to a processor takes no time beside.
_EACH = 1 << 18


def in_parts(work: Callable[[slice], Column], rows: int) -> Column:
    """Return the column that `work` makes of all rows, called for some of them at a time."""
    if rows < 2 * _EACH:
        return work(slice(0, rows))
    head, *parts = [slice(at, min(at + _EACH, rows)) for at in range(0, rows, _EACH)]
    first = work(head)
    kind, data, valid = _kind(first), np.empty(rows, first.data.dtype), np.ones(rows, bool)

    def put(part: slice, column: Column) -> bool | None:
        """Put some rows into their places and return whether all have a value.

        None where they are of another kind, as when numbers outgrow 32 bits.
        """
        if _kind(column) != kind:
            return None
        data[part] = column.data
        if column.valid is not None:
            valid[part] = column.valid
        return column.valid is None

    full = [put(head, first), *at_once([partial(lambda p: put(p, work(p)), p) for p in parts])]
    if None in full:
        return join([first, *map(work, parts)])
    return replace(first, data=data, valid=None if all(full) else valid)


def _kind(column: Column) -> tuple[str, int, str]:
    return column.kind, column.scale, column.data.dtype.str
