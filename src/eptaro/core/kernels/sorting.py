"""Sorting rows by their cells or keys, on all processors."""

from __future__ import annotations

from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Ints
from eptaro.core.kernels import dispatch
from eptaro.core.kernels.allocation import allocate, spill, truncate
from eptaro.core.kernels.parallel import WORKERS, run_parallel

Array = NDArray[Any]


_NO_DAYS = np.empty(0, np.int32)
_LEAST_SLICE = 1 << 17  # rows
_PARTS_BITS = 11  # there are at most so many parts, or as many as 32 bits within each need
_WITHIN_BITS = 8  # a part has at least so many cells


def in_cell_order(
    days: Days, slots: Array, first: int, width: int, values: Array, size: int
) -> tuple[Array, Array]:
    """Return the cells of rows in order, and the values in the order of their cells, those of
    one cell as they came.

    `days` is `(n_rows,) int32` or empty, `slots` `(n_rows,)` whole numbers or empty, `values`
    `(n_rows,)` of any type of 4 or 8 bytes; both results have `n_rows` entries. The cell of a row
    is `slot * width + day - first`, of which days or slots may be empty; it must be below `size`.
    Cells are int32 where these hold them. Raises `IndexError` for others.

    >>> none = np.empty(0, np.int64)
    >>> lists = in_cell_order(np.array([8, 7, 8], np.int32), none, 7, 1, np.array([1, 2, 3]), 2)
    >>> [part.tolist() for part in lists]
    [[0, 1, 1], [2, 1, 3]]
    """
    if dispatch.loops is None:
        every = _cells_of(days, slots, first, width)
        if len(every) and not 0 <= int(every.min()) <= int(every.max()) < size:
            raise IndexError(f"rows reach outside the {size} cells")
        order = np.argsort(every, kind="stable")
        cells = every[order].astype(np.int32 if size < 1 << 31 else np.int64)
        return spill(cells, slots), spill(values[order], slots)
    loops, rows = dispatch.loops, len(values)
    # A radix sort in two steps: rows are dealt to parts of neighbouring cells, then each part,
    # which stays in the processor's cache, is put in order by the lower bits of its cells.
    bits = max(size - 1, 0).bit_length()
    shift = min(max(bits - _PARTS_BITS, min(bits, _WITHIN_BITS)), 32)
    parts = (max(size - 1, 0) >> shift) + 1
    slices = _slices_of(rows, max(min(WORKERS, rows // _LEAST_SLICE), 1))
    counts = np.zeros((len(slices), parts), np.int64)
    own = [(days[of], slots[of], first, width) for of in slices]
    run_parallel(
        [partial(loops.counted, *part, size, shift, n) for part, n in zip(own, counts, strict=True)]
    )
    # Part by part, and in each part slice by slice: rows stay in their order.
    begins = (np.cumsum(counts.T).reshape(parts, len(slices)) - counts.T).T.copy()
    ends = np.cumsum(counts.sum(axis=0))
    values = np.ascontiguousarray(values)
    moved = values.view(np.int64) if values.dtype == np.float64 else values
    lows, dealt_values = allocate(rows, np.uint32, slots), allocate(rows, moved.dtype, slots)
    run_parallel(
        [
            partial(loops.dealt, *part, shift, begin, moved[of], lows, dealt_values)
            for part, begin, of in zip(own, begins, slices, strict=True)
        ]
    )
    cells = allocate(rows, np.int32 if size < 1 << 31 else np.int64, slots)
    out = allocate(rows, moved.dtype, slots)
    cuts = [0, *np.searchsorted(ends, [of.stop for of in slices[:-1]]).tolist(), parts]
    run_parallel(
        [
            partial(loops.settled, lows, dealt_values, ends, shift, start, stop, cells, out)
            for start, stop in pairwise(cuts)
        ]
    )
    return cells, out.view(values.dtype)


def _cells_of(days: Days, slots: Array, first: int, width: int) -> Ints:
    """Return the cell of each row: `slot * width + day - first`, of which either may be empty.

    All arrays are `(n_rows,)`.
    """
    cells = np.zeros(len(days) or len(slots), np.int64)
    if len(slots):
        cells += slots
        cells *= width
    if len(days):
        cells += days
        cells -= first
    return cells


def _slices_of(rows: int, count: int) -> list[slice]:
    return [slice(rows * n // count, rows * (n + 1) // count) for n in range(count)]


def distinct_cells(cells: Ints, size: int) -> tuple[Ints, Ints]:
    """Return the different ones of some cells below `size` in order, and the place of each.

    `cells` is `(n,) int64`; the results are `(n_distinct,)` and `(n,) int64`.

    >>> [part.tolist() for part in distinct_cells(np.array([7, 2, 7]), 10)]
    [[2, 7], [1, 0, 1]]
    """
    rows = np.arange(len(cells), dtype=np.int32)
    ordered, order = in_cell_order(_NO_DAYS, cells, 0, 1, rows, size)
    unique, places = distinct_sorted(ordered)
    back = allocate(len(cells), np.int64, cells)
    back[order] = places
    return unique, back


def distinct_sorted(cells: Array) -> tuple[Ints, NDArray[np.int32]]:
    """Return the different ones of cells that are in order, and the place of each row's.

    `cells` is `(n,)`; the results are `(n_distinct,) int64` and `(n,) int32`.

    >>> [part.tolist() for part in distinct_sorted(np.array([4, 4, 9]))]
    [[4, 9], [0, 0, 1]]
    """
    if dispatch.loops is None:
        new = np.ones(len(cells), bool)
        np.not_equal(cells[1:], cells[:-1], out=new[1:])
        codes = np.cumsum(new, dtype=np.int32) - np.int32(1)
        return spill(cells[new].astype(np.int64), cells), spill(codes, cells)
    keys, places = allocate(len(cells), np.int64, cells), allocate(len(cells), np.int32, cells)
    return truncate(keys, dispatch.loops.runs(cells, keys, places)), places


def joined_runs(one: Ints, two: Ints) -> tuple[Ints, Ints, Ints]:
    """Return the different cells of two runs in order, and the places of both there.

    The runs are `(n,) int64` and `(m,) int64`, and so are their places.

    >>> [part.tolist() for part in joined_runs(np.array([2, 5]), np.array([3, 5]))]
    [[2, 3, 5], [0, 2], [1, 2]]
    """
    if dispatch.loops is None:
        both, at = np.unique(np.concatenate([one, two]), return_inverse=True)
        return spill(both, one, two), spill(at[: len(one)], one), spill(at[len(one) :], two)
    union = allocate(len(one) + len(two), np.int64, one, two)
    mine, theirs = allocate(len(one), np.int64, one), allocate(len(two), np.int64, two)
    return (truncate(union, dispatch.loops.merged(one, two, union, mine, theirs)), mine, theirs)


def met_first(owners: Ints, values: NDArray[Any]) -> NDArray[np.bool_]:
    """Return which rows are the first of their owner with their value, `(n_rows,) bool`; owners and
    values are whole numbers from 0, `(n_rows,) int64` each.

    >>> met_first(np.array([0, 0, 1, 0]), np.array([7, 8, 7, 7])).tolist()
    [True, True, True, False]
    """
    first_marks = np.zeros(len(values), bool)
    keys = owners * (int(values.max(initial=0)) + 1) + values
    order = stable_order(keys)
    ordered = keys[order]
    fresh = np.ones(len(keys), bool)
    fresh[1:] = ordered[1:] != ordered[:-1]
    first_marks[order[fresh]] = True
    return first_marks


def stable_order(keys: Array) -> Ints:
    """Return the stable order of whole numbers from 0: NumPy's by passes over 16 bits each.

    `keys` is `(n,)`, the result `(n,) int64`.

    >>> stable_order(np.array([2, 0, 2])).tolist()
    [1, 0, 2]
    """
    if dispatch.loops is not None:
        return dispatch.loops.stable_order(keys)  # type: ignore[no-any-return]
    most = int(keys.max(initial=0))
    if most >= 1 << 32:
        return np.argsort(keys, kind="stable")
    # NumPy sorts 16 bits by counting, so two passes over halves beat one comparison sort.
    order = np.argsort(keys.astype(np.uint16), kind="stable")  # of the low 16 bits
    if most < 1 << 16:
        return order
    return order[np.argsort((keys >> 16).astype(np.uint16)[order], kind="stable")]


def rank_rows(*keys: NDArray[Any]) -> Ints:
    """Return the place of each row, `(n_rows,) int64`, in the order of the last key, then the one
    before, as `numpy.lexsort` takes them.
    """
    ranks = np.empty(len(keys[0]), np.int64)
    ranks[np.lexsort(keys)] = np.arange(len(ranks))
    return ranks


def time_keys(days: NDArray[Any], times: Ints) -> Ints:
    """Return numbers, `(n_rows,) int64`, that are in the order of days and times, equal where both
    are.
    """
    order = np.lexsort((times, days))
    later = (np.diff(days[order]) != 0) | (np.diff(times[order]) != 0)
    keys = np.empty(len(order), np.int64)
    keys[order] = np.concatenate([[0], np.cumsum(later)])[: len(order)]
    return keys
