"""Answers gathered from cells: the ranges of cells that spans of days hold, and what lies between
two places of running sums. The twin, in NumPy, of `compiled/gathering.pyx`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.twins.order import Values


def bounds(
    keys: Ints, group: Ints, first: Ints, last: Ints, begin: int, width: int, lo: Ints, hi: Ints
) -> None:
    """Put the first cell of each span of days into `lo`, and the one after its last into `hi`.

    A group has the cells of `width` days from `begin` on. Where `keys` are not empty, only the
    cells are there whose number, `group * width + day - begin`, is among them, and they are in
    order. A span that holds no days holds no cells.

    >>> lo, hi = np.empty((2, 2), np.int64)
    >>> bounds(np.array([0, 3, 4]), np.array([0, 1]), *np.array([[6, 6], [7, 9]]), 6, 3, lo, hi)
    >>> lo.tolist(), hi.tolist()
    ([0, 1], [1, 3])
    """
    lo[:] = group * width + np.clip(first - begin, 0, width)
    hi[:] = group * width + np.clip(last + 1 - begin, 0, width)
    np.maximum(hi, lo, out=hi)
    if len(keys):
        lo[:], hi[:] = np.searchsorted(keys, lo), np.searchsorted(keys, hi)


def bounds_of_all(
    keys: Ints, group: int, first: Ints, last: Ints, begin: int, width: int, lo: Ints, hi: Ints
) -> None:
    """Put the cells of the same spans of days for one group after the other, from `group` on, into
    the rows of `lo` and `hi`, as `bounds` does.

    >>> lo, hi = np.empty((2, 2, 1), np.int64)
    >>> bounds_of_all(np.array([0, 3, 4]), 0, np.array([6]), np.array([7]), 6, 3, lo, hi)
    >>> lo.tolist(), hi.tolist()
    ([[0], [1]], [[1], [3]])
    """
    if not len(first) == len(last) == lo.shape[1] == hi.shape[1] or len(lo) != len(hi):
        raise ValueError(f"{len(last)} last days and {lo.shape[1]} places for {len(first)} spans")
    groups = np.repeat(np.arange(group, group + len(lo)), len(first))
    ends = np.tile(first, len(lo)), np.tile(last, len(lo))
    found = np.empty((2, len(groups)), np.int64)
    bounds(keys, groups, *ends, begin, width, *found)
    lo[:], hi[:] = (part.reshape(lo.shape) for part in found)


def between(whole: Ints, lo: Ints, hi: Ints, found: Ints) -> None:
    """Put what running sums grow by from place `lo` to place `hi` into `found`.

    Raises `IndexError` for places that do not exist.

    >>> found = np.empty(1, np.int64)
    >>> between(np.array([0, 4, 9]), np.array([1]), np.array([2]), found)
    >>> found.tolist()
    [5]
    """
    _check(whole, lo, hi)
    np.subtract(whole[hi], whole[lo], out=found)


def between_floats(
    whole: Ints, rest: NDArray[np.float64], lo: Ints, hi: Ints, found: NDArray[np.float64]
) -> None:
    """Put what running sums of floats in two parts grow by from place `lo` to place `hi` into
    `found`.

    Raises `IndexError` for places that do not exist.

    >>> found = np.empty(1)
    >>> one = np.array([1]), np.array([2])
    >>> between_floats(np.array([0, 4, 9]), np.array([0.0, 0.5, 0.25]), *one, found)
    >>> found.tolist()
    [4.75]
    """
    _check(whole, lo, hi)
    np.add(whole[hi] - whole[lo], rest[hi] - rest[lo], out=found)


def scatter(cells: Values, target: Ints, found: Values) -> None:
    """Add each cell to that of `found` which its target names; below 0 it is left out.

    Raises `IndexError` for targets that do not exist.

    >>> found = np.zeros(2, np.int64)
    >>> scatter(np.array([3, 4, 5]), np.array([1, -1, 1]), found)
    >>> found.tolist()
    [0, 8]
    """
    keep = target >= 0
    if len(target) and target.max() >= len(found):
        raise IndexError(f"targets lie outside {len(found)} cells")
    np.add.at(found, target[keep], cells[keep])


def _check(whole: Ints, lo: Ints, hi: Ints) -> None:
    for places in (lo, hi):
        if len(places) and not 0 <= int(places.min()) <= int(places.max()) < len(whole):
            raise IndexError(f"places lie outside {len(whole)} running sums")
