"""Sums over ranges of cells: the ranges that spans of days hold, running sums, and what these grow
by between two places.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels import dispatch
from eptaro.core.kernels.allocation import allocate
from eptaro.core.kernels.parallel import parallel_for

Array = NDArray[Any]
_EVERY = np.empty(0, np.int64)


def add_cells(cells: Array, target: Ints, size: int) -> Array:
    """Return cells on others, `(size,)`: cell i goes to `target[i]`, several add up, -1 is left
    out. `cells` is `(n_cells,)`, `target` `(n_cells,) int64`.
    """
    out = allocate(size, cells.dtype, cells)
    if cells.dtype == object:
        keep = target >= 0
        np.add.at(out, target[keep], cells[keep])
    else:
        _scatter(cells, target, out)
    return out


def _scatter(cells: Array, target: Ints, out: Array) -> None:
    """Add each cell to that of `out` which its target names; below 0 it is left out.

    `cells` and `target` are `(n_cells,)`, `out` is `(n_new_cells,)`.
    """
    if dispatch.loops is not None:
        cells, target = np.ascontiguousarray(cells), np.ascontiguousarray(target, np.int64)
        dispatch.loops.scatter(cells, target, out)
        return
    keep = target >= 0
    np.add.at(out, target[keep], cells[keep])


def running_sums(cells: Array) -> Array:
    """Return running sums with a leading zero, `(n_cells + 1,)`, so that the sum of a range of
    cells is the difference of two of them.
    """
    out = allocate(len(cells) + 1, cells.dtype, cells)
    np.cumsum(cells, out=out[1:])
    return out


def added_together(parts: Sequence[Array], onto: Sequence[Ints | None], size: int) -> Array:
    """Return several arrays of cells added up on `size` others, in their order; `onto` is None
    where cells stay in place.

    Part k is `(n_k,)`, and so is `onto[k]`; the result is `(size,)`.
    """
    first, target = parts[0], onto[0]
    out = first.copy() if target is None else add_cells(first, target, size)
    for part, target in zip(parts[1:], onto[1:], strict=True):
        if target is None:
            out += part
        elif part.dtype == object:
            out += add_cells(part, target, size)
        else:
            _scatter(part, target, out)
    return out


def bounds(
    keys: Ints | None, group: Ints, first: Ints, last: Ints, begin: int, width: int
) -> tuple[Ints, Ints]:
    """Return the first cell of each span of days, and the one after its last, `(n_spans,) int64`
    each.

    `group`, `first` and `last` are `(n_spans,)`, days as ordinals. A group has the cells of `width`
    days from `begin` on. With `keys`, in order, only the cells are there whose number,
    `group * width + day - begin`, is among them. A span that holds no days holds no cells.

    >>> spans = np.array([[6, 6], [7, 9]])
    >>> lo, hi = bounds(np.array([0, 3, 4]), np.array([0, 1]), *spans, 6, 3)
    >>> lo.tolist(), hi.tolist()
    ([0, 1], [1, 3])
    """
    group, first, last = (np.ascontiguousarray(part, np.int64) for part in (group, first, last))
    if dispatch.loops is None:
        lo = group * width + np.clip(first - begin, 0, width)
        hi = np.maximum(group * width + np.clip(last + 1 - begin, 0, width), lo)
        return (lo, hi) if keys is None else (np.searchsorted(keys, lo), np.searchsorted(keys, hi))
    loop, all_keys = dispatch.loops.bounds, _EVERY if keys is None else keys
    lo, hi = np.empty((2, len(group)), np.int64)

    def some(of: slice) -> None:
        loop(all_keys, group[of], first[of], last[of], begin, width, lo[of], hi[of])

    parallel_for(some, len(group))
    return lo, hi


def bounds_of_all(
    keys: Ints | None, groups: int, first: Ints, last: Ints, begin: int, width: int
) -> tuple[Ints, Ints]:
    """Return the cells of the same spans of days for one group after the other, as `bounds` does.

    `first` and `last` are `(n_spans,)`; the results are `(groups * n_spans,) int64`.

    >>> lo, hi = bounds_of_all(np.array([0, 3, 4]), 2, np.array([6]), np.array([7]), 6, 3)
    >>> lo.tolist(), hi.tolist()
    ([0, 1], [1, 3])
    """
    if keys is None:  # the spans lie alike in every group
        ends = bounds(None, np.zeros(len(first), np.int64), first, last, begin, width)
        begins = np.arange(groups)[:, None] * width
        lo, hi = (begins + end for end in ends)
        return lo.ravel(), hi.ravel()
    first, last = (np.ascontiguousarray(part, np.int64) for part in (first, last))
    if _are_all_days(first, last, begin, width):
        edges = _edges_of_all(keys, groups, first, begin, width)
        return edges[:-1], edges[1:]
    if dispatch.loops is None:
        group = np.repeat(np.arange(groups), len(first))
        return bounds(keys, group, np.tile(first, groups), np.tile(last, groups), begin, width)
    loop = dispatch.loops.bounds_of_all
    lo, hi = (np.empty((groups, len(first)), np.int64) for _ in range(2))

    def some(of: slice) -> None:
        loop(keys, of.start, first, last, begin, width, lo[of], hi[of])

    parallel_for(some, groups, each=len(first))
    return lo.ravel(), hi.ravel()


def _are_all_days(first: Ints, last: Ints, begin: int, width: int) -> bool:
    """Return whether spans follow each other without a gap and hold all `width` days from `begin`
    on, as the periods of a coverage do. Where one ends, the next then begins, also across groups.

    `first` and `last` are `(n_spans,)`.
    """
    return bool(
        len(first)
        and first[0] <= begin
        and last[-1] >= begin + width - 1
        and (first[1:] == last[:-1] + 1).all()
        and (first <= last).all()
    )


def _edges_of_all(keys: Ints, groups: int, first: Ints, begin: int, width: int) -> Ints:
    """Return the first cell of the same spans for one group after the other, and where the last
    span ends: `(groups * n_spans + 1,)`.

    `first` is `(n_spans,)`, `keys` `(n_cells,)`.
    """
    edges = np.empty(groups * len(first) + 1, np.int64)
    edges[-1] = np.searchsorted(keys, groups * width)
    each = edges[:-1].reshape(groups, len(first))
    if dispatch.loops is None:
        starts = np.arange(groups)[:, None] * width + np.clip(first - begin, 0, width)
        each[:] = np.searchsorted(keys, starts)
        return edges
    loop = dispatch.loops.edges_of_all
    parallel_for(
        lambda of: loop(keys, of.start, first, begin, width, each[of]), groups, each=len(first)
    )
    return edges


def growth_between(
    whole: Ints, lo: Ints, hi: Ints, rest: NDArray[np.float64] | None = None
) -> NDArray[Any]:
    """Return what running sums, with a `rest` floats in two parts, grow by from place `lo` to `hi`.

    `whole` and `rest` are `(n_cells + 1,)`, `lo` and `hi` `(n_ranges,)`, as is the result.

    Raises `IndexError` for places that do not exist.

    >>> growth_between(np.array([0, 4, 9]), np.array([1]), np.array([2])).tolist()
    [5]
    """
    if dispatch.loops is None:
        sums = whole[hi] - whole[lo]
        return sums if rest is None else sums + (rest[hi] - rest[lo])
    lo, hi = np.ascontiguousarray(lo, np.int64), np.ascontiguousarray(hi, np.int64)
    loops, out = (dispatch.loops, np.empty(len(lo), np.int64 if rest is None else np.float64))

    def some(of: slice) -> None:
        if rest is None:
            loops.between(whole, lo[of], hi[of], out[of])
        else:
            loops.between_floats(whole, rest, lo[of], hi[of], out[of])

    parallel_for(some, len(lo))
    return out


def count_below(keys: Ints, sought: Ints) -> Ints:
    """Return how many of the keys, which are in order, are less than each number asked for.

    `keys` is `(n_keys,) int64`, `sought` and the result are `(n,) int64`.

    >>> count_below(np.array([2, 5, 9]), np.array([0, 5, 6])).tolist()
    [0, 1, 2]
    """
    if dispatch.loops is None:
        return np.searchsorted(keys, sought)
    return dispatch.loops.places(keys, sought)  # type: ignore[no-any-return]
