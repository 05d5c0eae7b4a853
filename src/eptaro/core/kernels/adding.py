"""Cells added up: onto other cells, and as running sums."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.chosen import scatter
from eptaro.core.kernels.room import room

Array = NDArray[Any]


def added(cells: Array, target: Ints, size: int) -> Array:
    """Return cells on others: cell i goes to `target[i]`, several add up, -1 is left out."""
    out = room(size, cells.dtype, cells)
    if cells.dtype == object:
        keep = target >= 0
        np.add.at(out, target[keep], cells[keep])
    else:
        scatter(np.ascontiguousarray(cells), np.ascontiguousarray(target, np.int64), out)
    return out


def running(cells: Array) -> Array:
    """Return running sums with a leading zero."""
    out = room(len(cells) + 1, cells.dtype, cells)
    np.cumsum(cells, out=out[1:])
    return out


def added_together(parts: Sequence[Array], onto: Sequence[Ints | None], size: int) -> Array:
    """Return several arrays of cells added up on `size` others, in their order; `onto` is None
    where cells stay in place.
    """
    first, target = parts[0], onto[0]
    out = first.copy() if target is None else added(first, target, size)
    for part, target in zip(parts[1:], onto[1:], strict=True):
        if target is None:
            out += part
        elif part.dtype == object:
            out += added(part, target, size)
        else:
            scatter(np.ascontiguousarray(part), np.ascontiguousarray(target, np.int64), out)
    return out
