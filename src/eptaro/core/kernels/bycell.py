"""Rows put in the order of their cells, on all processors."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Ints
from eptaro.core.kernels.chosen import counted, dealt, merged, runs, scatter, settled, stable_order
from eptaro.core.kernels.room import room, shortened
from eptaro.core.kernels.sidebyside import WORKERS, at_once

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


_NO_DAYS = np.empty(0, np.int32)
_LEAST_SLICE = 1 << 17  # rows
_PARTS_BITS = 11  # there are at most so many parts, or as many as 32 bits within each need
_WITHIN_BITS = 8  # a part has at least so many cells


def in_cell_order(
    days: Days, slots: Array, first: int, width: int, values: Array, size: int
) -> tuple[Array, Array]:
    """Return the cells of rows in order, and the values in the order of their cells, those of
    one cell as they came.

    The cell of a row is `slot * width + day - first`, of which days or slots may be empty; it
    must be below `size`. Cells are int32 where these hold them. Raises `IndexError` for others.

    >>> none = np.empty(0, np.int64)
    >>> found = in_cell_order(np.array([8, 7, 8], np.int32), none, 7, 1, np.array([1, 2, 3]), 2)
    >>> [part.tolist() for part in found]
    [[0, 1, 1], [2, 1, 3]]
    """
    rows = len(values)
    bits = max(size - 1, 0).bit_length()
    shift = min(max(bits - _PARTS_BITS, min(bits, _WITHIN_BITS)), 32)
    parts = (max(size - 1, 0) >> shift) + 1
    slices = _cut(rows, max(min(WORKERS, rows // _LEAST_SLICE), 1))
    counts = np.zeros((len(slices), parts), np.int64)
    own = [(days[of], slots[of], first, width) for of in slices]
    at_once([partial(counted, *part, size, shift, n) for part, n in zip(own, counts, strict=True)])
    # Part by part, and in each part slice by slice: rows stay in their order.
    begins = (np.cumsum(counts.T).reshape(parts, len(slices)) - counts.T).T.copy()
    ends = np.cumsum(counts.sum(axis=0))
    values = np.ascontiguousarray(values)
    moved = values.view(np.int64) if values.dtype == np.float64 else values
    lows, dealt_values = room(rows, np.uint32, slots), room(rows, moved.dtype, slots)
    at_once(
        [
            partial(dealt, *part, shift, begin, moved[of], lows, dealt_values)
            for part, begin, of in zip(own, begins, slices, strict=True)
        ]
    )
    cells = room(rows, np.int32 if size < 1 << 31 else np.int64, slots)
    out = room(rows, moved.dtype, slots)
    cuts = [0, *np.searchsorted(ends, [of.stop for of in slices[:-1]]).tolist(), parts]
    at_once(
        [
            partial(settled, lows, dealt_values, ends, shift, start, stop, cells, out)
            for start, stop in pairwise(cuts)
        ]
    )
    return cells, out.view(values.dtype)


def _cut(rows: int, count: int) -> list[slice]:
    return [slice(rows * n // count, rows * (n + 1) // count) for n in range(count)]


def occupied(cells: Ints, size: int) -> tuple[Ints, Ints]:
    """Return the different ones of some cells below `size` in order, and the place of each.

    >>> [part.tolist() for part in occupied(np.array([7, 2, 7]), 10)]
    [[2, 7], [1, 0, 1]]
    """
    rows = np.arange(len(cells), dtype=np.int32)
    ordered, order = in_cell_order(_NO_DAYS, cells, 0, 1, rows, size)
    found, places = different(ordered)
    back = room(len(cells), np.int64, cells)
    back[order] = places
    return found, back


def different(cells: Array) -> tuple[Ints, NDArray[np.int32]]:
    """Return the different ones of cells that are in order, and the place of each row's.

    >>> [part.tolist() for part in different(np.array([4, 4, 9]))]
    [[4, 9], [0, 0, 1]]
    """
    keys, places = room(len(cells), np.int64, cells), room(len(cells), np.int32, cells)
    return shortened(keys, runs(cells, keys, places)), places


def joined_runs(one: Ints, two: Ints) -> tuple[Ints, Ints, Ints]:
    """Return the different cells of two runs in order, and the places of both there.

    >>> [part.tolist() for part in joined_runs(np.array([2, 5]), np.array([3, 5]))]
    [[2, 3, 5], [0, 2], [1, 2]]
    """
    found = room(len(one) + len(two), np.int64, one, two)
    mine, theirs = room(len(one), np.int64, one), room(len(two), np.int64, two)
    return shortened(found, merged(one, two, found, mine, theirs)), mine, theirs


def met_first(owners: Ints, values: NDArray[Any]) -> NDArray[np.bool_]:
    """Return which rows are the first of their owner with their value; owners and values are
    whole numbers from 0.

    >>> met_first(np.array([0, 0, 1, 0]), np.array([7, 8, 7, 7])).tolist()
    [True, True, True, False]
    """
    found = np.zeros(len(values), bool)
    keys = owners * (int(values.max(initial=0)) + 1) + values
    order = stable_order(keys)
    ordered = keys[order]
    fresh = np.ones(len(keys), bool)
    fresh[1:] = ordered[1:] != ordered[:-1]
    found[order[fresh]] = True
    return found
