"""The least or largest of ranges, by windows that double: each range is covered by two of one
width. The twin, in NumPy, of `compiled/extremes.pyx`, whose windows move on only.
"""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.twins.order import Values


def window_extremes(values: Values, lo: Ints, hi: Ints, largest: bool, found: Values) -> None:
    """Put the least (or largest) value of each window into `found`; an empty one leaves what is
    there.

    Windows move on: neither `lo` nor `hi` falls. Raises `IndexError` for windows that do not
    exist, `ValueError` for windows that go back.

    >>> found = np.zeros(2, np.int64)
    >>> window_extremes(np.array([3, 1, 2]), np.array([0, 2]), np.array([2, 3]), False, found)
    >>> found.tolist()
    [1, 2]
    """
    if not len(lo) == len(hi) == len(found):
        raise ValueError(f"{len(hi)} ends and {len(found)} answers for {len(lo)} begins")
    if not ((lo >= 0) & (lo <= hi) & (hi <= len(values))).all():
        raise IndexError(f"a window lies outside {len(values)} values")
    if (lo[1:] < lo[:-1]).any() or (hi[1:] < hi[:-1]).any():
        raise ValueError("windows go back")
    extremes(values, lo, hi, largest, found)


def extremes(values: Values, lo: Ints, hi: Ints, largest: bool, found: Values) -> None:
    """Put the least (or largest) value of each of any ranges into `found`; an empty one leaves
    what is there.

    >>> found = np.zeros(2, np.int64)
    >>> extremes(np.array([3, 1, 2]), np.array([1, 0]), np.array([3, 2]), True, found)
    >>> found.tolist()
    [2, 3]
    """
    better = np.maximum if largest else np.minimum
    length = hi - lo
    power = np.where(length > 0, np.frexp(np.maximum(length, 1).astype(np.float64))[1] - 1, -1)
    window, width = values, 1
    for level in range(int(power.max(initial=-1)) + 1):
        asked = np.flatnonzero(power == level)
        if len(asked):
            found[asked] = better(window[lo[asked]], window[hi[asked] - width])
        window = better(window[:-width], window[width:]) if len(window) > width else window[:0]
        width *= 2
