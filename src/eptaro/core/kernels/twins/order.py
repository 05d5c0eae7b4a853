"""Orders and ranks of arrays."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Values = NDArray[Any]


def stable_order(keys: Values) -> Ints:
    """Return the stable order of whole numbers from 0, by two passes over 16 bits each."""
    most = int(keys.max(initial=0))
    if most >= 1 << 32:
        return np.argsort(keys, kind="stable")
    order = np.argsort(keys.astype(np.uint16), kind="stable")  # of the low 16 bits
    if most < 1 << 16:
        return order
    return order[np.argsort((keys >> 16).astype(np.uint16)[order], kind="stable")]


def distinct(keys: Ints, bound: int) -> tuple[Ints, NDArray[Any]]:
    """Return the different whole numbers from 0 to below a bound in order, and each one's place.

    Where there are not many more numbers below the bound than keys, those that occur are
    marked instead of sorted, and places are int32. Raises `IndexError` for other numbers.

    >>> [part.tolist() for part in distinct(np.array([7, 2, 7]), 10)]
    [[2, 7], [1, 0, 1]]
    """
    if bound <= min(8 * len(keys) + (1 << 16), 1 << 30):
        return marked(keys, 0, bound)
    if len(keys) and not 0 <= keys.min() <= keys.max() < bound:
        raise IndexError(f"keys lie beyond {bound}")
    return np.unique(keys, return_inverse=True)


def marked(values: Ints, least: int, span: int) -> tuple[Ints, NDArray[np.int32]]:
    """Return the different whole numbers among `span` from `least` on, in order, and the place of
    each value among them.

    Those that occur are marked; that suits spans that are not much longer than the values.
    Raises `IndexError` for values outside the span.

    >>> [part.tolist() for part in marked(np.array([7, 5, 7]), 4, 5)]
    [[5, 7], [1, 0, 1]]
    """
    if len(values) and not least <= values.min() <= values.max() < least + span:
        raise IndexError(f"values lie outside {least}..{least + span - 1}")
    seen = np.zeros(span, bool)
    seen[values - least] = True
    codes = np.cumsum(seen, dtype=np.int32) - np.int32(1)
    return np.flatnonzero(seen) + least, codes[values - least]


def paired(
    one: NDArray[np.int32], two: NDArray[np.int32], height: int, width: int
) -> tuple[Ints, NDArray[np.int32]]:
    """Return the different pairs of numbers below `height` and `width`, as `one * width + two` in
    order, and the place of each row's pair among them.

    Raises `IndexError` for other numbers.

    >>> pair = np.array([1, 0, 1], np.int32), np.array([2, 0, 2], np.int32)
    >>> [part.tolist() for part in paired(*pair, 2, 3)]
    [[0, 5], [1, 0, 1]]
    """
    if len(one) and (one.min() < 0 or two.min() < 0 or one.max() >= height or two.max() >= width):
        raise IndexError(f"pairs lie outside {height} times {width}")
    return marked(one.astype(np.int64) * width + two, 0, height * width)


def places(keys: Ints, asked: Ints) -> Ints:
    """Return how many of the keys, which are in order, are less than each number asked for.

    >>> places(np.array([2, 5, 9]), np.array([0, 5, 6])).tolist()
    [0, 1, 2]
    """
    return np.searchsorted(keys, asked)


def ranks(*keys: NDArray[Any]) -> Ints:
    """Return the place of each row in the order of the last key, then the one before, ..."""
    ranks = np.empty(len(keys[0]), np.int64)
    ranks[np.lexsort(keys)] = np.arange(len(ranks))
    return ranks


def moments(days: NDArray[Any], times: Ints) -> Ints:
    """Return numbers that are in the order of days and times, equal where both are."""
    order = np.lexsort((times, days))
    later = (np.diff(days[order]) != 0) | (np.diff(times[order]) != 0)
    found = np.empty(len(order), np.int64)
    found[order] = np.concatenate([[0], np.cumsum(later)])[: len(order)]
    return found
