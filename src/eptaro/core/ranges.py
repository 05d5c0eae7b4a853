"""Statistics over many ranges of one array at once.

Every function takes values and, for each question, the half-open range lo..hi of places it
asks about. None loops over values or ranges: minima go by doubling windows, ranks and
counts by sorting the values bit by bit and following all ranges down together, so the
cost is O((values + ranges) log values) array operations and O(values + ranges) memory.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.days import Ints

Values = NDArray[Any]


def extremes(values: Values, lo: Ints, hi: Ints, *, largest: bool) -> Values:
    """Return the least (or largest) value of each range; an empty range gives any value.

    >>> extremes(np.array([3, 1, 2]), np.array([0, 2]), np.array([2, 3]), largest=False).tolist()
    [1, 2]
    """
    better = np.maximum if largest else np.minimum
    found = np.zeros(len(lo), values.dtype)
    if not len(values):
        return found
    length = hi - lo
    power = np.where(length > 0, np.frexp(np.maximum(length, 1).astype(np.float64))[1] - 1, -1)
    window, width = values, 1
    for level in range(int(power.max(initial=-1)) + 1):
        asked = np.flatnonzero(power == level)
        if len(asked):
            found[asked] = better(window[lo[asked]], window[hi[asked] - width])
        window = better(window[:-width], window[width:]) if len(window) > width else window[:0]
        width *= 2
    return found


def _ranked(values: Values) -> tuple[Values, Ints]:
    """Return the distinct values in order, and for each value its rank among them."""
    distinct, ranks = np.unique(values, return_inverse=True)
    return distinct, ranks


def kth_smallest(values: Values, lo: Ints, hi: Ints, k: Ints) -> Values:
    """Return the k-th smallest value (k from 0) of each range.

    The ranks are split by their highest bit, zeros before ones, keeping the order; how
    many zeros a range holds says on which side its k-th value lies. Then the next bit.

    >>> kth_smallest(np.array([5, 1, 4]), np.array([0]), np.array([3]), np.array([1])).tolist()
    [4]
    """
    distinct, ranks = _ranked(values)
    lo, hi, k = lo.copy(), hi.copy(), k.copy()
    found = np.zeros(len(lo), np.int64)
    for bit in reversed(range(max(len(distinct) - 1, 0).bit_length())):
        ones = (ranks >> bit) & 1
        zeros_before = np.zeros(len(ranks) + 1, np.int64)
        np.cumsum(1 - ones, out=zeros_before[1:])
        zeros = zeros_before[-1]
        low, high = zeros_before[lo], zeros_before[hi]
        right = k >= high - low
        found += right << bit
        k -= np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
        ranks = np.concatenate([ranks[ones == 0], ranks[ones == 1]])
    return distinct[found] if len(distinct) else np.zeros(len(lo))


def quantile(values: Values, lo: Ints, hi: Ints, q: float) -> NDArray[np.float64]:
    """Return the q-quantile of each range, interpolated linearly between neighbours.

    >>> quantile(np.array([1, 2, 10]), np.array([0, 0]), np.array([2, 3]), 0.5).tolist()
    [1.5, 2.0]
    """
    place = q * (np.maximum(hi - lo, 1) - 1)
    below = np.floor(place).astype(np.int64)
    above = np.minimum(below + 1, np.maximum(hi - lo, 1) - 1)
    filled = hi > lo
    lo, hi = np.where(filled, lo, 0), np.where(filled, hi, min(1, len(values)))
    both = kth_smallest(
        values, np.concatenate([lo, lo]), np.concatenate([hi, hi]),
        np.where(np.concatenate([filled, filled]), np.concatenate([below, above]), 0),
    ).astype(np.float64)  # fmt: skip
    first, second = both[: len(lo)], both[len(lo) :]
    return first + (second - first) * (place - below)  # type: ignore[no-any-return]


def distinct(values: Values, lo: Ints, hi: Ints) -> Ints:
    """Return how many different values each range holds.

    A value counts where it stands first in the range: where the place of the one before
    it, if any, lies before the range.

    >>> distinct(np.array([7, 7, 8, 7]), np.array([0, 1]), np.array([4, 2])).tolist()
    [2, 1]
    """
    order = np.argsort(values, kind="stable")
    same = np.flatnonzero(values[order][1:] == values[order][:-1])
    before = np.zeros(len(values), np.int64)  # place of the one before, plus 1; 0 is none
    before[order[same + 1]] = order[same] + 1
    return _count_below(before, lo, hi, lo + 1)


def _count_below(values: Ints, lo: Ints, hi: Ints, limit: Ints) -> Ints:
    """Return how many values of each range are less than its limit."""
    lo, hi = lo.copy(), np.maximum(hi, lo)
    found = np.zeros(len(lo), np.int64)
    for bit in reversed(range(len(values).bit_length() + 1)):
        ones = (values >> bit) & 1
        zeros_before = np.zeros(len(values) + 1, np.int64)
        np.cumsum(1 - ones, out=zeros_before[1:])
        zeros = zeros_before[-1]
        low, high = zeros_before[lo], zeros_before[hi]
        right = ((limit >> bit) & 1) == 1
        found += np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
        values = np.concatenate([values[ones == 0], values[ones == 1]])
    return found
