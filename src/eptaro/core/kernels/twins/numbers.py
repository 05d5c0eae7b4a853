"""Numbers as they are read. The twin, in NumPy, of `compiled/numbers.pyx`."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Floats = NDArray[np.float64]


def extent(values: Floats) -> tuple[float, float, int]:
    """Return the least and the largest of floats, and how many are NaN, which are neither.

    Where there is no value they are inf and -inf.

    >>> extent(np.array([2.0, np.nan, -1.5]))
    (-1.5, 2.0, 1)
    """
    least = float(np.fmin.reduce(values, initial=np.inf))
    most = float(np.fmax.reduce(values, initial=-np.inf))
    return least, most, int(np.count_nonzero(np.isnan(values)))


def narrow(words: Ints, filled: NDArray[np.uint8], low: Ints) -> int:
    """Put whole numbers of 128 bits, two words each with the lower one first, into 64 bits, zeros
    where they are not filled; return the first row that does not fit, or -1.

    `filled`, one byte a row, may be empty where all are.

    >>> low = np.empty(2, np.int64)
    >>> narrow(np.array([[-5, -1], [7, 1]]), np.empty(0, np.uint8), low), int(low[0])
    (1, -5)
    """
    if len(low) != len(words) or len(filled) not in (0, len(words)) or words.shape[1] != 2:
        raise ValueError(f"{len(words)} numbers, {len(low)} places and {len(filled)} flags")
    fits = words[:, 1] == words[:, 0] >> 63
    low[:] = words[:, 0]
    if len(filled):
        fits |= filled == 0
        low[filled == 0] = 0
    return -1 if fits.all() else int(np.argmin(fits))


def units(values: Floats, unit: float, limit: float, found: Ints) -> bool:
    """Put how many parts of 1 / unit each float stands for into `found`; return whether all
    floats are just such numbers, less than a limit in size.

    >>> found = np.empty(2, np.int64)
    >>> units(np.array([0.25, -3.1]), 100.0, 2.0**53, found), found.tolist()
    (True, [25, -310])
    """
    if len(found) != len(values):
        raise ValueError(f"{len(values)} values for {len(found)} places")
    counts = np.rint(values * unit)
    if not ((np.abs(counts) < limit) & (counts / unit == values)).all():
        return False
    found[:] = counts
    return True
