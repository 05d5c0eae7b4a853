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
from eptaro.core.kernels import bigint, dispatch
from eptaro.core.kernels.factorize import factorize_narrow
from eptaro.core.kernels.parallel import WORKERS, run_parallel
from eptaro.core.kernels.sorting import stable_order

Values = NDArray[Any]
_BLOCK = 1 << 18


_EXACT = 1 << 53  # whole numbers that floats hold all of


_NUMBERED = 8  # so many times as many numbers as values are still used as they are


_SHARED = 8  # ranges that hold each value more often on average are asked together


def extremes(values: Values, lo: Ints, hi: Ints, *, largest: bool) -> Values:
    """Return the least (or largest) value of each range; an empty range gives any value.

    `values` is `(n,)`, `lo` and `hi` are `(n_ranges,) int64`, as long as the result.

    >>> extremes(np.array([3, 1, 2]), np.array([0, 2]), np.array([2, 3]), largest=False).tolist()
    [1, 2]
    """
    extreme = np.zeros(len(lo), values.dtype)
    if not len(values):
        return extreme
    hi = np.maximum(hi, lo)
    loops = dispatch.loops
    if loops is not None and values.dtype in (np.int64, np.float64) and _move_on(lo, hi):
        ends = np.ascontiguousarray(lo), np.ascontiguousarray(hi)
        loops.window_extremes(np.ascontiguousarray(values), *ends, largest, extreme)
    else:
        _by_doubling(values, lo, hi, largest, extreme)
    return extreme


def _rank_distinct(values: Values) -> tuple[Values, NDArray[np.int32]]:
    """Return the distinct values in order, and for each value its rank among them.

    `values` and the ranks are `(n_values,)`.
    """
    if values.dtype.kind == "i" and len(values):
        least = int(values.min())
        span = int(values.max()) - least + 1
        if span <= _NUMBERED * len(values):  # few enough to mark which occur instead of sorting
            return factorize_narrow(np.ascontiguousarray(values, np.int64), least, span)
    distinct, places = np.unique(values, return_inverse=True)
    return distinct, places.astype(np.int32)


def _by_block(
    answer: Callable[..., Values], values: Values, lo: Ints, hi: Ints, *more: Ints
) -> Values:
    """Return the answers over ranges, found apart for blocks of values that no range leaves.

    `values` is `(n_values,)`; `lo`, `hi`, `more` and the answers are `(n_ranges,)`.

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

    sorted_answers = np.concatenate(run_parallel([partial(one, cut) for cut in pairwise(cuts)]))
    answers = np.empty_like(sorted_answers)
    answers[order] = sorted_answers
    return answers


def neighbours(values: Values, lo: Ints, hi: Ints, below: Ints, above: Ints) -> Values:
    """Return the values of two numbers, of which one follows the other or is it, in each range.

    `values` is `(n,)`; the others are `(n_ranges,) int64`, and the result is `(2, n_ranges)`.
    """
    if values.dtype != object and _share_little(values, lo, hi):
        values = values.astype(np.float64 if values.dtype.kind == "f" else np.int64, copy=False)
        nearest = np.zeros((2, len(lo)), values.dtype)
        if dispatch.loops is None:
            _fill_from_sorted(values, lo, hi, below, nearest)
            return nearest
        loop = dispatch.loops.neighbours
        _run_in_parts(
            lambda own: loop(values, lo[own], hi[own], below[own], nearest[:, own]), lo, hi
        )
        return nearest
    return _by_block(_two_values_of_each, values, lo, hi, below, above).T


def _share_little(values: Values, lo: Ints, hi: Ints) -> bool:
    """Return whether ranges are best asked one by one, as they hold few values several times.

    `values` is `(n_values,)`, `lo` and `hi` are `(n_ranges,)`.
    """
    return int((hi - lo).sum()) <= _SHARED * len(values)


def _run_in_parts(answer: Callable[[slice], None], lo: Ints, hi: Ints) -> None:
    """Calculate ranges side by side, in parts that hold about as many values each.

    `lo` and `hi` are `(n_ranges,)`.
    """
    volume = np.cumsum(hi - lo)
    if not len(volume) or volume[-1] <= _BLOCK:
        answer(slice(len(lo)))
        return
    cuts = np.searchsorted(volume, volume[-1] * np.arange(1, WORKERS) // WORKERS)
    ends = [0, *cuts.tolist(), len(lo)]
    run_parallel([partial(answer, slice(*cut)) for cut in pairwise(ends)])


def quantiles(values: Values, lo: Ints, hi: Ints, q: float) -> NDArray[np.float64]:
    """Return the q-quantile of each range, interpolated linearly between neighbours.

    `values` is `(n,)`, `lo` and `hi` are `(n_ranges,) int64`, the result `(n_ranges,) float64`.

    >>> quantiles(np.array([1, 2, 10]), np.array([0, 0]), np.array([2, 3]), 0.5).tolist()
    [1.5, 2.0]
    """
    last = np.maximum(hi - lo, 1) - 1
    over, under = Fraction(str(q)).as_integer_ratio()  # 0.9 of 70 is 63 and not a little less
    fits = over * int(last.max(initial=0)) < 1 << 62
    place = over * last.astype(np.int64 if fits else object)
    below, part = (place // under).astype(np.int64), (place % under).astype(np.float64) / under
    above = np.minimum(below + 1, last)
    both = neighbours(values, lo, hi, below, above)
    first, second = both
    if values.dtype.kind != "f" and bigint.largest_absolute(both) >= _EXACT:
        rest = (place % under).astype(np.int64).tolist()
        ends = zip(first.tolist(), second.tolist(), rest, strict=True)
        return np.array(
            [_interpolate_exactly(one, two, Fraction(n, under)) for one, two, n in ends]
        )
    return interpolate(first.astype(np.float64), second.astype(np.float64), part)


def _interpolate_exactly(one: Any, two: Any, part: Fraction) -> float:
    """Return the value at some part of the way between numbers that floats do not hold."""
    try:
        return float(Fraction(one) * (1 - part) + Fraction(two) * part)
    except OverflowError:  # beyond the floats: blank
        return np.nan


def interpolate(first: Values, second: Values, part: Values) -> NDArray[np.float64]:
    """Return the value at some part of the way, calculated from the nearer end; half of it is the
    mean of both, which is rounded once.

    All are `(n,)`, and `part` is from 0 to 1.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        way, both = second - first, first + second
        quantiles = np.where(part < 0.5, first + way * part, second - way * (1 - part))
        quantiles = np.where((part == 0.5) & np.isfinite(both), both / 2, quantiles)
        wide = np.isinf(way) & np.isfinite(first) & np.isfinite(second)
        return np.asarray(np.where(wide, first * (1 - part) + second * part, quantiles))


def count_distinct(values: Values, lo: Ints, hi: Ints) -> Ints:
    """Return how many different values each range holds.

    `values` is `(n,)`, `lo`, `hi` and the result are `(n_ranges,) int64`.

    A value counts where it is first in the range: where the place of the one before
    it, if any, lies before the range.

    >>> count_distinct(np.array([7, 7, 8, 7]), np.array([0, 1]), np.array([4, 2])).tolist()
    [2, 1]
    """
    if _share_little(values, lo, hi):
        codes, bound = _number_distinct(values)
        if dispatch.loops is None:
            owner, place = _flatten_ranges(lo, hi)
            met = np.unique(owner * bound + codes[place])
            return np.bincount(met // max(bound, 1), minlength=len(lo))
        counts, loop = np.zeros(len(lo), np.int64), dispatch.loops.distinct_in

        def ask(own: slice) -> None:
            loop(codes, lo[own], hi[own], bound, counts[own])

        _run_in_parts(ask, lo, hi)
        return counts
    return _by_block(_distinct, values, lo, hi)


def _number_distinct(values: Values) -> tuple[NDArray[np.int32], int]:
    """Return numbers from 0 that distinguish values, and a bound that all are below.

    `values` and the numbers are `(n_values,)`.
    """
    if values.dtype.kind == "i" and len(values):
        least = int(values.min())
        span = int(values.max()) - least + 1
        if span <= _NUMBERED * len(values) and span < 1 << 31:
            return (values - least).astype(np.int32), span
    unique, ranks = _rank_distinct(values)
    return ranks, len(unique)


def _distinct(values: Values, lo: Ints, hi: Ints) -> Ints:
    """Return how many different values each range holds; `values` is `(n_values,)`, `lo` and `hi`
    are `(n_ranges,)`.
    """
    codes, bound = _number_distinct(values)
    hi = np.maximum(hi, lo)
    if dispatch.loops is None or not _move_on(lo, hi):
        return _count_different_ranks(codes, lo, hi)
    counts = np.zeros(len(lo), np.int64)
    dispatch.loops.window_distinct(
        codes, np.ascontiguousarray(lo), np.ascontiguousarray(hi), bound, counts
    )
    return counts


def _move_on(lo: Ints, hi: Ints) -> bool:
    """Return whether windows never go back. `lo` and `hi` are `(n_ranges,)`."""
    return bool((lo[1:] >= lo[:-1]).all() and (hi[1:] >= hi[:-1]).all())


def _two_values_of_each(values: Values, lo: Ints, hi: Ints, below: Ints, above: Ints) -> Values:
    """Return two values of each of some ranges, as one row per range.

    `values` is `(n_values,)`, the result `(n_ranges, 2)`; the others are `(n_ranges,)`.
    """
    unique, ranks = _rank_distinct(values)
    neighbours_found, hi = np.zeros((2, len(lo)), np.int64), np.maximum(hi, lo)
    if dispatch.loops is not None and _move_on(lo, hi):
        lo, hi = np.ascontiguousarray(lo), np.ascontiguousarray(hi)
        dispatch.loops.window_neighbours(ranks, lo, hi, below, above, len(unique), neighbours_found)
    else:
        filled = np.flatnonzero(hi > lo)
        for row, numbers in enumerate((below, above)):
            own = (lo[filled], hi[filled], numbers[filled])
            neighbours_found[row, filled] = _kth_smallest(ranks, len(unique), *own)
    return unique[neighbours_found.T] if len(unique) else np.zeros((len(lo), 2), values.dtype)


def _fill_from_sorted(values: Values, lo: Ints, hi: Ints, k: Ints, out: Values) -> None:
    """Put the k-th smallest value of each range and the one after it, the k-th again where it is
    the last, into two rows of `out`; an empty range leaves what is there.

    `values` is `(n_values,)`, `out` is `(2, n_ranges)`; the others are `(n_ranges,)`.
    """
    owner, place = _flatten_ranges(lo, hi)
    length = np.maximum(hi - lo, 0)
    filled = length > 0
    own = values[place] + values.dtype.type(0)  # there is one zero
    own = own[np.lexsort((own, owner))]
    at = (np.cumsum(length) - length + k)[filled]
    out[0, filled] = own[at]
    out[1, filled] = own[at + (k + 1 < length)[filled]]


def _flatten_ranges(lo: Ints, hi: Ints) -> tuple[Ints, Ints]:
    """Return the range and the place of every value that ranges hold, one range after another.

    `lo` and `hi` are `(n_ranges,)`, the results `(n_values_in_all,)`.
    """
    length = np.maximum(hi - lo, 0)
    owner = np.repeat(np.arange(len(lo)), length)
    place = np.arange(len(owner)) - np.repeat(np.cumsum(length) - length, length)
    return owner, place + lo[owner]


def _by_doubling(values: Values, lo: Ints, hi: Ints, largest: bool, out: Values) -> None:
    """Put the least (or largest) value of each range into `out`, by windows that double: each
    range is covered by two of one width. An empty one leaves what is there.

    `values` is `(n_values,)`; `lo`, `hi` and `out` are `(n_ranges,)`.
    """
    better = np.maximum if largest else np.minimum
    length = hi - lo
    power = np.where(length > 0, np.frexp(np.maximum(length, 1).astype(np.float64))[1] - 1, -1)
    window, width = values, 1
    for level in range(int(power.max(initial=-1)) + 1):
        at_level = np.flatnonzero(power == level)
        if len(at_level):
            out[at_level] = better(window[lo[at_level]], window[hi[at_level] - width])
        window = better(window[:-width], window[width:]) if len(window) > width else window[:0]
        width *= 2


# Ranks are split by their highest bit, zeros before ones, keeping the order; how many zeros a range
# holds says on which side what is asked for lies. Then the next bit: all ranges go down together.


def _kth_smallest(ranks: NDArray[np.int32], bound: int, lo: Ints, hi: Ints, k: Ints) -> Ints:
    """Return the k-th smallest rank (k from 0) of each range of ranks below a bound.

    `ranks` is `(n_values,)`; the others are `(n_ranges,)`.

    >>> lo, hi, k = np.array([0]), np.array([3]), np.array([1])
    >>> _kth_smallest(np.array([2, 0, 1], np.int32), 3, lo, hi, k).tolist()
    [1]
    """
    lo, hi, k = lo.copy(), hi.copy(), k.copy()
    ranks_at = np.zeros(len(lo), np.int64)
    for bit in reversed(range(max(bound - 1, 0).bit_length())):
        ranks, zeros_before, zeros = _split(ranks, bit)
        low, high = zeros_before[lo], zeros_before[hi]
        right = k >= high - low
        ranks_at += right << bit
        k -= np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
    return ranks_at


def _count_different_ranks(ranks: NDArray[np.int32], lo: Ints, hi: Ints) -> Ints:
    """Return how many different ranks each range holds.

    `ranks` is `(n_values,)`, `lo` and `hi` are `(n_ranges,)`.

    A value counts where it is first in the range: where the place of the one before it, if
    any, lies before the range.
    """
    order = stable_order(ranks)
    same = np.flatnonzero(ranks[order][1:] == ranks[order][:-1])
    before = np.zeros(len(ranks), np.int32)  # place of the one before, plus 1; 0 is none
    before[order[same + 1]] = order[same] + 1
    return _count_below(before, lo, hi, lo + 1)


def _count_below(values: Values, lo: Ints, hi: Ints, limit: Ints) -> Ints:
    """Return how many values of each range are less than its limit.

    `values` is `(n_values,)`; the others are `(n_ranges,)`.
    """
    lo, hi = lo.copy(), np.maximum(hi, lo)
    counts = np.zeros(len(lo), np.int64)
    for bit in reversed(range(len(values).bit_length() + 1)):
        values, zeros_before, zeros = _split(values, bit)
        low, high = zeros_before[lo], zeros_before[hi]
        right = ((limit >> bit) & 1) == 1
        counts += np.where(right, high - low, 0)
        lo = np.where(right, zeros + lo - low, low)
        hi = np.where(right, zeros + hi - high, high)
    return counts


def _split(numbers: Values, bit: int) -> tuple[Values, Ints, int]:
    """Return numbers with those without a bit before those with it, in their order; how many
    without it come before each place; and how many there are.

    `numbers` is `(n_values,)`, the counts are `(n_values + 1,)`.
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
