"""Statistics over many ranges of one array at once.

Every function takes values and, for each question, the half-open range lo..hi of places it
asks about. Ranges that share little are asked one by one; windows
that move on keep what they hold; of others all ranges go down a tree of bits together, so that
the cost is O((values + ranges) log values) and the memory O(values + ranges).
"""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.chosen import (
    distinct_in,
    neighbours,
    window_distinct,
    window_extremes,
    window_neighbours,
)
from eptaro.core.kernels.occurring import close_together
from eptaro.core.kernels.sidebyside import WORKERS, at_once
from eptaro.core.kernels.twins.extremes import extremes as by_doubling
from eptaro.core.kernels.twins.order import Values
from eptaro.core.kernels.twins.sliding import different, kth
from eptaro.core.tables import exact

_BLOCK = 1 << 18


_EXACT = 1 << 53  # whole numbers that floats hold all of


_NUMBERED = 8  # so many times as many numbers as values are still used as they stand


_SHARED = 8  # ranges that hold each value more often on average are asked together


def extremes(values: Values, lo: Ints, hi: Ints, *, largest: bool) -> Values:
    """Return the least (or largest) value of each range; an empty range gives any value.

    >>> extremes(np.array([3, 1, 2]), np.array([0, 2]), np.array([2, 3]), largest=False).tolist()
    [1, 2]
    """
    found = np.zeros(len(lo), values.dtype)
    if not len(values):
        return found
    hi = np.maximum(hi, lo)
    if values.dtype in (np.int64, np.float64) and _move_on(lo, hi):
        ends = np.ascontiguousarray(lo), np.ascontiguousarray(hi)
        window_extremes(np.ascontiguousarray(values), *ends, largest, found)
    else:
        by_doubling(values, lo, hi, largest, found)
    return found


def _ranked(values: Values) -> tuple[Values, NDArray[np.int32]]:
    """Return the distinct values in order, and for each value its rank among them."""
    if values.dtype.kind == "i" and len(values):
        least = int(values.min())
        span = int(values.max()) - least + 1
        if span <= _NUMBERED * len(values):  # few enough to mark which occur instead of sorting
            return close_together(np.ascontiguousarray(values, np.int64), least, span)
    distinct, places = np.unique(values, return_inverse=True)
    return distinct, places.astype(np.int32)


def _by_block(
    answer: Callable[..., Values], values: Values, lo: Ints, hi: Ints, *more: Ints
) -> Values:
    """Return the answers over ranges, found apart for blocks of values that no range leaves.

    Ranges of one group never reach into the next; a block's arrays stay in the processor's
    cache, and blocks go side by side.
    """
    if len(values) <= _BLOCK or not len(lo):
        return answer(values, lo, hi, *more)
    order = np.argsort(lo, kind="stable")
    starts, reach = lo[order], np.maximum.accumulate(hi[order])
    free = np.flatnonzero(starts[1:] >= reach[:-1]) + 1
    block = starts[free] // _BLOCK
    cuts = [0, *free[np.flatnonzero(np.diff(block, prepend=0))].tolist(), len(order)]

    def one(cut: tuple[int, int]) -> Values:
        own, base, end = order[slice(*cut)], starts[cut[0]], reach[cut[1] - 1]
        return answer(values[base:end], lo[own] - base, hi[own] - base, *(m[own] for m in more))

    found = np.concatenate(at_once([partial(one, cut) for cut in pairwise(cuts)]))
    answers = np.empty_like(found)
    answers[order] = found
    return answers


def _neighbours(values: Values, lo: Ints, hi: Ints, below: Ints, above: Ints) -> Values:
    """Return the values of two numbers, of which one follows the other or is it, in each range."""
    if values.dtype != object and _share_little(values, lo, hi):
        values = values.astype(np.float64 if values.dtype.kind == "f" else np.int64, copy=False)
        found = np.zeros((2, len(lo)), values.dtype)
        _in_parts(
            lambda own: neighbours(values, lo[own], hi[own], below[own], found[:, own]), lo, hi
        )
        return found
    return _by_block(_both, values, lo, hi, below, above).T


def _share_little(values: Values, lo: Ints, hi: Ints) -> bool:
    """Return whether ranges are best asked one by one, as they hold few values several times."""
    return int((hi - lo).sum()) <= _SHARED * len(values)


def _in_parts(answer: Callable[[slice], None], lo: Ints, hi: Ints) -> None:
    """Work out ranges side by side, in parts that hold about as many values each."""
    held = np.cumsum(hi - lo)
    if not len(held) or held[-1] <= _BLOCK:
        answer(slice(len(lo)))
        return
    cuts = np.searchsorted(held, held[-1] * np.arange(1, WORKERS) // WORKERS)
    ends = [0, *cuts.tolist(), len(lo)]
    at_once([partial(answer, slice(*cut)) for cut in pairwise(ends)])


def quantile(values: Values, lo: Ints, hi: Ints, q: float) -> NDArray[np.float64]:
    """Return the q-quantile of each range, interpolated linearly between neighbours.

    >>> quantile(np.array([1, 2, 10]), np.array([0, 0]), np.array([2, 3]), 0.5).tolist()
    [1.5, 2.0]
    """
    last = np.maximum(hi - lo, 1) - 1
    over, under = Fraction(str(q)).as_integer_ratio()  # 0.9 of 70 is 63 and not a little less
    fits = over * int(last.max(initial=0)) < 1 << 62
    place = over * last.astype(np.int64 if fits else object)
    below, part = (place // under).astype(np.int64), (place % under).astype(np.float64) / under
    above = np.minimum(below + 1, last)
    both = _neighbours(values, lo, hi, below, above)
    first, second = both
    if values.dtype.kind != "f" and exact.most(both) >= _EXACT:
        rest = (place % under).astype(np.int64).tolist()
        ends = zip(first.tolist(), second.tolist(), rest, strict=True)
        return np.array([_between(one, two, Fraction(n, under)) for one, two, n in ends])
    return between(first.astype(np.float64), second.astype(np.float64), part)


def _between(one: Any, two: Any, part: Fraction) -> float:
    """Return the value at some part of the way between numbers that floats do not hold."""
    try:
        return float(Fraction(one) * (1 - part) + Fraction(two) * part)
    except OverflowError:  # beyond the floats: blank
        return np.nan


def between(first: Values, second: Values, part: Values) -> NDArray[np.float64]:
    """Return the value at some part of the way, reckoned from the nearer end."""
    with np.errstate(over="ignore", invalid="ignore"):
        way = second - first
        found = np.where(part < 0.5, first + way * part, second - way * (1 - part))
        wide = np.isinf(way) & np.isfinite(first) & np.isfinite(second)
        return np.asarray(np.where(wide, first * (1 - part) + second * part, found))


def distinct(values: Values, lo: Ints, hi: Ints) -> Ints:
    """Return how many different values each range holds.

    A value counts where it stands first in the range: where the place of the one before
    it, if any, lies before the range.

    >>> distinct(np.array([7, 7, 8, 7]), np.array([0, 1]), np.array([4, 2])).tolist()
    [2, 1]
    """
    if _share_little(values, lo, hi):
        codes, bound = _numbered(values)
        found = np.zeros(len(lo), np.int64)

        def ask(own: slice) -> None:
            distinct_in(codes, lo[own], hi[own], bound, found[own])

        _in_parts(ask, lo, hi)
        return found
    return _by_block(_distinct, values, lo, hi)


def _numbered(values: Values) -> tuple[NDArray[np.int32], int]:
    """Return numbers from 0 that tell values apart, and what all are less than."""
    if values.dtype.kind == "i" and len(values):
        least = int(values.min())
        span = int(values.max()) - least + 1
        if span <= _NUMBERED * len(values) and span < 1 << 31:
            return (values - least).astype(np.int32), span
    named, ranks = _ranked(values)
    return ranks, len(named)


def _distinct(values: Values, lo: Ints, hi: Ints) -> Ints:
    codes, bound = _numbered(values)
    hi = np.maximum(hi, lo)
    if not _move_on(lo, hi):
        return different(codes, lo, hi)
    found = np.zeros(len(lo), np.int64)
    window_distinct(codes, np.ascontiguousarray(lo), np.ascontiguousarray(hi), bound, found)
    return found


def _move_on(lo: Ints, hi: Ints) -> bool:
    """Return whether windows never go back."""
    return bool((lo[1:] >= lo[:-1]).all() and (hi[1:] >= hi[:-1]).all())


def _both(values: Values, lo: Ints, hi: Ints, below: Ints, above: Ints) -> Values:
    """Return two values of each of some ranges, as one row per range."""
    named, ranks = _ranked(values)
    found, hi = np.zeros((2, len(lo)), np.int64), np.maximum(hi, lo)
    if _move_on(lo, hi):
        lo, hi = np.ascontiguousarray(lo), np.ascontiguousarray(hi)
        window_neighbours(ranks, lo, hi, below, above, len(named), found)
    else:
        filled = np.flatnonzero(hi > lo)
        for row, numbers in enumerate((below, above)):
            own = (lo[filled], hi[filled], numbers[filled])
            found[row, filled] = kth(ranks, len(named), *own)
    return named[found.T] if len(named) else np.zeros((len(lo), 2), values.dtype)
