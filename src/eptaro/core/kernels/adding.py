"""Cells added up: onto other cells, and as running sums."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.chosen import scatter

Array = NDArray[Any]


def added(cells: Array, target: Ints, size: int) -> Array:
    """Return cells on others: cell i goes to `target[i]`, several add up, -1 is left out."""
    out = np.zeros(size, cells.dtype)
    if cells.dtype == object:
        keep = target >= 0
        np.add.at(out, target[keep], cells[keep])
    else:
        scatter(np.ascontiguousarray(cells), np.ascontiguousarray(target, np.int64), out)
    return out


def running(cells: Array) -> Array:
    """Return running sums with a leading zero."""
    out = np.zeros(len(cells) + 1, cells.dtype)
    np.cumsum(cells, out=out[1:])
    return out


def added_to(one: Array, mine: Ints | None, two: Array, theirs: Ints | None, size: int) -> Array:
    """Return two arrays of cells added up on `size` others; None where cells stay in place."""
    if mine is None and theirs is None:
        return one + two
    if mine is None:
        one, mine, two, theirs = two, theirs, one, mine
    assert mine is not None
    out = np.array(two) if theirs is None else added(two, theirs, size)
    if out.dtype == object or one.dtype == object:
        return out + added(one, mine, size)
    scatter(np.ascontiguousarray(one), np.ascontiguousarray(mine, np.int64), out)
    return out
