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


def distinct(keys: Ints, bound: int) -> tuple[Ints, Ints]:
    """Return the different whole numbers from 0 to below a bound in order, and each one's place.

    Raises `IndexError` for other numbers.

    >>> [part.tolist() for part in distinct(np.array([7, 2, 7]), 10)]
    [[2, 7], [1, 0, 1]]
    """
    if len(keys) and not 0 <= keys.min() <= keys.max() < bound:
        raise IndexError(f"keys lie beyond {bound}")
    return np.unique(keys, return_inverse=True)


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
