"""Statistics of windows that slide over values, or of any ranges of them.

Ranks are split by their highest bit, zeros before ones, keeping the order; how many zeros a range
holds tells on which side what is asked for lies. Then the next bit: all ranges go down together.
The twin, in NumPy, of `compiled/sliding.pyx`, whose windows move on only.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.twins.order import Values, stable_order


def window_neighbours(
    ranks: NDArray[np.int32], lo: Ints, hi: Ints, below: Ints, above: Ints, bound: int, found: Ints
) -> None:
    """Put two ranks of each window, told by how many of its values come before, into two rows of
    `found`; an empty window leaves what is there.

    Ranks are from 0 to below `bound`. Windows move on: neither `lo` nor `hi` falls. Raises
    `IndexError` for ranks, windows or numbers that do not exist, `ValueError` for windows that
    go back.

    >>> found = np.zeros((2, 2), np.int64)
    >>> ends, one = (np.array([0, 1]), np.array([2, 3])), np.array([0, 1])
    >>> window_neighbours(np.array([2, 0, 1], np.int32), *ends, one, np.array([1, 1]), 3, found)
    >>> found.tolist()
    [[0, 1], [2, 1]]
    """
    _check(ranks, lo, hi, bound)
    filled = np.flatnonzero(hi > lo)
    for row, numbers in enumerate((below, above)):
        own = numbers[filled]
        if len(own) and not ((own >= 0) & (own < (hi - lo)[filled])).all():
            raise IndexError("a window has not so many values")
        found[row, filled] = kth(ranks, bound, lo[filled], hi[filled], own)


def window_distinct(codes: NDArray[np.int32], lo: Ints, hi: Ints, bound: int, found: Ints) -> None:
    """Put the number of different codes, which are from 0 to below `bound`, of each window into
    `found`; windows and errors are as above.

    >>> found = np.zeros(2, np.int64)
    >>> window_distinct(np.array([1, 1, 0], np.int32), np.array([0, 1]), np.array([2, 3]), 2, found)
    >>> found.tolist()
    [1, 2]
    """
    _check(codes, lo, hi, bound)
    found[:] = different(codes, lo, hi)


def kth(ranks: NDArray[np.int32], bound: int, lo: Ints, hi: Ints, k: Ints) -> Ints:
    """Return the k-th smallest rank (k from 0) of each range of ranks below a bound.

    >>> kth(np.array([2, 0, 1], np.int32), 3, *(np.array([n]) for n in (0, 3, 1))).tolist()
    [1]
    """
    lo, hi, k = lo.copy(), hi.copy(), k.copy()
    found = np.zeros(len(lo), np.int64)
    for bit in reversed(range(max(bound - 1, 0).bit_length())):
        ranks, zeros_before, zeros = _split(ranks, bit)
        low, high = zeros_before[lo], zeros_before[hi]
        right = k >= high - low
        found += right << bit
        k -= np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
    return found


def different(ranks: NDArray[np.int32], lo: Ints, hi: Ints) -> Ints:
    """Return how many different ranks each range holds.

    A value counts where it stands first in the range: where the place of the one before it, if
    any, lies before the range.
    """
    order = stable_order(ranks)
    same = np.flatnonzero(ranks[order][1:] == ranks[order][:-1])
    before = np.zeros(len(ranks), np.int32)  # place of the one before, plus 1; 0 is none
    before[order[same + 1]] = order[same] + 1
    return _count_below(before, lo, hi, lo + 1)


def _check(numbers: NDArray[np.int32], lo: Ints, hi: Ints, bound: int) -> None:
    inside = (lo >= 0).all() and (lo <= hi).all() and (hi <= len(numbers)).all()
    if not inside or (len(numbers) and not 0 <= numbers.min() <= numbers.max() < bound):
        raise IndexError(
            f"a number lies outside 0..{bound - 1}, or a window outside {len(numbers)} values"
        )
    if (np.diff(lo) < 0).any() or (np.diff(hi) < 0).any():
        raise ValueError("windows go back")


def _count_below(values: Values, lo: Ints, hi: Ints, limit: Ints) -> Ints:
    """Return how many values of each range are less than its limit."""
    lo, hi = lo.copy(), np.maximum(hi, lo)
    found = np.zeros(len(lo), np.int64)
    for bit in reversed(range(len(values).bit_length() + 1)):
        values, zeros_before, zeros = _split(values, bit)
        low, high = zeros_before[lo], zeros_before[hi]
        right = ((limit >> bit) & 1) == 1
        found += np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
    return found


def _split(numbers: Values, bit: int) -> tuple[Values, Ints, int]:
    """Return numbers with those without a bit before those with it, in their order; how many
    without it come before each place; and how many there are.
    """
    zero = (numbers & numbers.dtype.type(1 << bit)) == 0
    before = np.zeros(len(numbers) + 1, np.int32)
    np.cumsum(zero, out=before[1:])
    count = int(before[-1])
    parted = np.empty_like(numbers)
    # By place rather than by mask: without a branch per value it takes a third of the time.
    np.take(numbers, np.flatnonzero(zero), out=parted[:count], mode="clip")
    np.logical_not(zero, out=zero)
    np.take(numbers, np.flatnonzero(zero), out=parted[count:], mode="clip")
    return parted, before, count  # type: ignore[return-value]
