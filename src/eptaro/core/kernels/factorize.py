"""Factorizing whole numbers: the distinct ones in order, and the code of each row."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels import dispatch
from eptaro.core.kernels.parallel import chunks, parallel_for, run_parallel

Codes = NDArray[np.int32]
MarkArray = NDArray[np.uint8]
_MOST_MARKED = 1 << 30
_FEW = 1 << 16
_FIRST_LOOK, _PART_LOOKED_AT = 1 << 12, 8


def factorize(keys: Ints, bound: int) -> tuple[Ints, NDArray[Any]]:
    """Return the different whole numbers from 0 to below a bound in order, and each one's place.

    `keys` is `(n,) int64`; the results are `(n_distinct,) int64` and `(n,) int32`.

    Where there are not many more numbers below the bound than keys, those that occur are
    marked instead of sorted, and places are int32. Raises `IndexError` for other numbers.

    >>> [part.tolist() for part in factorize(np.array([7, 2, 7]), 10)]
    [[2, 7], [1, 0, 1]]
    """
    if bound <= min(8 * len(keys) + _FEW, _MOST_MARKED):
        return factorize_narrow(np.ascontiguousarray(keys, np.int64), 0, bound)
    if dispatch.loops is not None:
        return dispatch.loops.distinct_keys(keys, bound)  # type: ignore[no-any-return]
    if len(keys) and not 0 <= keys.min() <= keys.max() < bound:
        raise IndexError(f"keys lie beyond {bound}")
    return np.unique(keys, return_inverse=True)


def factorize_narrow(values: Ints, least: int, span: int) -> tuple[Ints, Codes]:
    """Return the different whole numbers among `span` from `least` on, in order, and the place of
    each value among them.

    `values` is `(n,) int64`; the results are `(n_distinct,) int64` and `(n,) int32`.

    Raises `IndexError` for values outside the span.

    >>> [part.tolist() for part in factorize_narrow(np.array([7, 5, 7]), 4, 5)]
    [[5, 7], [1, 0, 1]]
    """
    if dispatch.loops is None:
        if len(values) and not least <= values.min() <= values.max() < least + span:
            raise IndexError(f"values lie outside {least}..{least + span - 1}")
        met, codes = _number_marked(values - least, span)
        return met + least, codes
    loops = dispatch.loops

    def mark_some(of: slice, marks: MarkArray) -> None:
        loops.mark(values[of], least, marks)

    def number_some(of: slice, numbers: Codes, codes: Codes) -> None:
        loops.numbered(values[of], least, numbers, codes[of])

    met, codes = _code_rows(len(values), span, mark_some, number_some)
    return met + least, codes


def occur_early(values: NDArray[Any], least: int, span: int) -> bool:
    """Return whether each of `span` whole numbers from `least` on is among the first values.

    `values`, `(n,)` of whole numbers none of which lies outside the span, are looked at until each
    has been seen, which of random ones takes few rows, and an eighth of them at most.

    >>> occur_early(np.tile([4, 3], 40), 3, 2), occur_early(np.tile([4, 3], 40), 3, 3)
    (True, False)
    """
    seen, start, most = np.zeros(span, bool), 0, len(values) // _PART_LOOKED_AT
    while span <= most and start < most:
        end = min(2 * start + _FIRST_LOOK, most)
        seen[np.asarray(values[start:end], np.int64) - least] = True
        if seen.all():
            return True
        start = end
    return False


def factorize_pairs(one: Codes, two: Codes, height: int, width: int) -> tuple[Ints, Codes]:
    """Return the different pairs of numbers below `height` and `width`, as `one * width + two` in
    order, and the place of each row's pair among them.

    `one` and `two` are `(n,)`; the results are `(n_distinct,) int64` and `(n,) int32`.

    Raises `IndexError` for other numbers.

    >>> pair = np.array([1, 0, 1], np.int32), np.array([2, 0, 2], np.int32)
    >>> [part.tolist() for part in factorize_pairs(*pair, 2, 3)]
    [[0, 5], [1, 0, 1]]
    """
    if dispatch.loops is None:
        for part, most in ((one, height), (two, width)):
            if len(part) and not 0 <= part.min() <= part.max() < most:
                raise IndexError(f"pairs lie outside {height} times {width}")
        return _number_marked(one.astype(np.int64) * width + two, height * width)
    loops = dispatch.loops

    def mark_some(of: slice, seen: MarkArray) -> None:
        loops.mark_pairs(one[of], two[of], height, width, seen)

    def number_some(of: slice, numbers: Codes, codes: Codes) -> None:
        loops.number_pairs(one[of], two[of], height, width, numbers, codes[of])

    return _code_rows(len(one), height * width, mark_some, number_some)


def _number_marked(places: Ints, span: int) -> tuple[Ints, Codes]:
    """Return the different places below a span in order, and which of them each is.

    `places` and the codes are `(n,)`, the different places `(n_different,)`.
    """
    present = np.zeros(span, bool)
    present[places] = True
    numbers = np.cumsum(present, dtype=np.int32) - np.int32(1)
    return np.flatnonzero(present), numbers[places]


def _code_rows(
    rows: int,
    span: int,
    mark_slice: Callable[[slice, MarkArray], None],
    put: Callable[[slice, Codes, Codes], None],
) -> tuple[Ints, Codes]:
    """Return the marked numbers and the code of each row; slices have marks of their own, of which
    there are a few bytes for each row in all.

    The numbers are `(n_different,)`, the codes `(rows,)`.
    """
    if span > _MOST_MARKED:
        raise ValueError(f"a span of {span} is too long to be marked")

    def marks(of: slice) -> MarkArray:
        present = np.zeros(span, np.uint8)
        mark_slice(of, present)
        return present

    present, *others = run_parallel(
        [partial(marks, of) for of in chunks(rows, 4 * rows // max(span, 1))]
    )
    for other in others:
        present |= other
    numbers = np.cumsum(present, dtype=np.int32)
    numbers -= 1
    codes = np.empty(rows, np.int32)
    parallel_for(lambda of: put(of, numbers, codes), rows)
    return np.flatnonzero(present), codes
