"""Rows put in the order of their cells in two steps: dealt out to parts of the cells, then put
in order part by part.

Part p holds the cells from `p << shift` to below `(p + 1) << shift`. The cell of a row is told
as to `fold`: `slot * width + day - first`, of which days or slots may be empty. Rows of one cell
stay in the order in which they came. The twin, in NumPy, of `compiled/parting.pyx`.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Ints

Array = NDArray[Any]


def counted(
    days: Days, slots: Array, first: int, width: int, size: int, shift: int, counts: Ints
) -> None:
    """Add to `counts` how many rows lie in each part of `size` cells.

    Raises `IndexError` for rows outside the cells and for parts that do not cover them.

    >>> counts, none = np.zeros(2, np.int64), np.empty(0, np.int64)
    >>> counted(np.array([7, 9, 7], np.int32), none, 7, 1, 3, 1, counts)
    >>> counts.tolist()
    [2, 1]
    """
    cells = _cells(days, slots, first, width)
    if len(cells) and not 0 <= int(cells.min()) <= int(cells.max()) < size:
        raise IndexError(f"rows reach outside the {size} cells")
    if len(cells) and len(counts) <= (size - 1) >> shift:
        raise IndexError(f"{len(counts)} parts do not cover {size} cells")
    counts += np.bincount(cells >> shift, minlength=len(counts))


def dealt(
    days: Days,
    slots: Array,
    first: int,
    width: int,
    shift: int,
    begins: Ints,
    values: Array,
    lows: NDArray[np.uint32],
    out: Array,
) -> None:
    """Put the lower bits of cells into `lows` and the rows' values into `out`, each part from its
    place in `begins` on, which moves on.

    Raises `IndexError` where the places do not come from a count of these rows.
    """
    cells = _cells(days, slots, first, width)
    if len(values) != len(cells) or len(lows) != len(out):
        raise ValueError(f"{len(values)} values for {len(cells)} rows")
    part = cells >> shift
    if len(part) and not 0 <= int(part.min()) <= int(part.max()) < len(begins):
        raise IndexError("rows were not counted as they are dealt")
    order = np.argsort(part, kind="stable")
    counts = np.bincount(part, minlength=len(begins))
    to = np.arange(len(part)) + np.repeat(begins - (np.cumsum(counts) - counts), counts)
    if len(to) and not 0 <= int(to.min()) <= int(to.max()) < len(out):
        raise IndexError("rows were not counted as they are dealt")
    lows[to] = (cells & ((1 << shift) - 1))[order]
    out[to] = values[order]
    begins += counts


def settled(
    lows: NDArray[np.uint32],
    values: Array,
    ends: Ints,
    shift: int,
    start: int,
    stop: int,
    cells: Array,
    out: Array,
) -> None:
    """Put the rows of parts `start` to below `stop` in the order of their cells, these into
    `cells` and their values into `out`.

    `ends` tells where each part's rows end; what is in `lows` and `values` is lost. Raises
    `IndexError` for parts that do not exist, `ValueError` for arrays of different lengths.
    """
    if not 0 <= start <= stop <= len(ends) or not 0 <= shift <= 32:
        raise IndexError(f"parts {start} to {stop} of {len(ends)}, shifted by {shift}")
    if len({len(lows), len(values), len(cells), len(out)}) > 1:
        raise ValueError("rows, cells and values are not equally many")
    for part in range(start, stop):
        of = slice(int(ends[part - 1]) if part else 0, int(ends[part]))
        if not 0 <= of.start <= of.stop <= len(lows):
            raise IndexError(f"part {part} goes beyond {len(lows)} rows")
        order = np.argsort(lows[of], kind="stable")
        cells[of] = lows[of][order].astype(np.int64) + (part << shift)
        out[of] = values[of][order]


def runs(cells: Array, keys: Ints, places: NDArray[np.int32]) -> int:
    """Put the different cells of rows whose cells are in order into `keys`, and the place of each
    row's into `places`, both as long as the rows; return how many there are.

    Raises `ValueError` where they are not in order.

    >>> keys, places = np.empty(3, np.int64), np.empty(3, np.int32)
    >>> runs(np.array([4, 4, 9]), keys, places), keys[:2].tolist(), places.tolist()
    (2, [4, 9], [0, 0, 1])
    """
    if len(keys) != len(cells) or len(places) != len(cells):
        raise ValueError(f"{len(keys)} keys and {len(places)} places for {len(cells)} cells")
    new = np.ones(len(cells), bool)
    np.not_equal(cells[1:], cells[:-1], out=new[1:])
    if (cells[1:] < cells[:-1]).any():
        raise ValueError("cells are not in order")
    count = int(np.count_nonzero(new))
    keys[:count] = cells[new]
    places[:] = np.cumsum(new, dtype=np.int32) - np.int32(1)
    return count


def merged(one: Ints, two: Ints, found: Ints, mine: Ints, theirs: Ints) -> int:
    """Put the different cells of two runs, each of which is in order without repetition, into
    `found`, which has room for all, and the places of both there into `mine` and `theirs`;
    return how many there are.

    Raises `ValueError` where they are not in order.

    >>> found, mine, theirs = np.empty(4, np.int64), np.empty(2, np.int64), np.empty(2, np.int64)
    >>> merged(np.array([2, 5]), np.array([3, 5]), found, mine, theirs), found[:3].tolist()
    (3, [2, 3, 5])
    >>> mine.tolist(), theirs.tolist()
    ([0, 2], [1, 2])
    """
    if (len(found), len(mine), len(theirs)) != (len(one) + len(two), len(one), len(two)):
        raise ValueError(f"{len(found)} places for {len(one)} and {len(two)} cells")
    if any((part[1:] <= part[:-1]).any() for part in (one, two)):
        raise ValueError("cells are not in order")
    both, places = np.unique(np.concatenate([one, two]), return_inverse=True)
    found[: len(both)] = both
    mine[:], theirs[:] = places[: len(one)], places[len(one) :]
    return len(both)


def _cells(days: Days, slots: Array, first: int, width: int) -> Ints:
    cells: Ints = np.zeros(len(days) or len(slots), np.int64)
    if len(slots):
        cells += slots
        cells *= width
    if len(days):
        cells += days
        cells -= first
    return cells
