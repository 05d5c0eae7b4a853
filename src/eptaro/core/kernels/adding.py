"""Cells added up: onto other cells, and as running sums."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Array = NDArray[Any]


def added(cells: Array, target: Ints, size: int) -> Array:
    """Return cells on others: cell i goes to `target[i]`, several add up, -1 is left out."""
    out = np.zeros(size, cells.dtype)
    keep = target >= 0
    np.add.at(out, target[keep], cells[keep])
    return out


def running(cells: Array) -> Array:
    """Return running sums with a leading zero."""
    out = np.zeros(len(cells) + 1, cells.dtype)
    np.cumsum(cells, out=out[1:])
    return out
