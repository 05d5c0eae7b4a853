"""What a fold does with each column: the words of a cell, and which of them a plan fills."""

from __future__ import annotations

from collections.abc import Iterable
from enum import IntEnum
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

HALF = 32  # bits of the lower half of a sum
LIMB = 30  # bits of each part of a square; 2**33 of them add up in 64 bits


class Op(IntEnum):
    """What a plan does with the rows of a cell; the words that it fills are in `WORDS`.

    Sums in halves hold `high * 2**32 + low`, squares in limbs `low + middle * 2**30 +
    high * 2**60`. Floats are added up as nearest whole numbers, and what is left as a float.
    A packed sum is above the number of all rows, which takes as many bits as the plan's
    `shift`. A picked value has the number of its row behind it, -1 where there is none yet, and a
    first or last one then its time.
    """

    ROWS = 0
    FILLED = 1
    SUM = 2
    SUM_HALVES = 3
    SUM_FLOATS = 4
    SUM_FLOATS_HALVES = 5
    PACKED = 6
    PACKED_FLOATS = 7
    SQUARE = 8
    SQUARE_LIMBS = 9
    SQUARE_FLOATS = 10
    SQUARE_FLOATS_LIMBS = 11
    LEAST = 12
    LARGEST = 13
    FIRST = 14
    LAST = 15


WORDS = (1, 1, 1, 2, 2, 3, 1, 2, 1, 3, 2, 4, 2, 2, 3, 3)


class Plan(NamedTuple):
    """What a fold does with one column.

    `word` is the first word of a cell that it fills, `values` are int64 or float64 (any for
    rows that are only counted), `filled` (one byte a row) says which are not blank, and NaN is
    blank. Squares are counted from `centre`.
    """

    op: Op
    word: int
    values: NDArray[Any] | None = None
    filled: NDArray[np.uint8] | None = None
    centre: int = 0
    shift: int = 0


def words_of(plans: Iterable[Plan]) -> int:
    """Return how many words of a cell plans fill."""
    return max(plan.word + WORDS[plan.op] for plan in plans)


def empty_cells(size: int, plans: Iterable[Plan]) -> NDArray[np.int64]:
    """Return cells that hold nothing yet, one row of words each."""
    plans = list(plans)
    cells = np.zeros((size, words_of(plans)), np.int64)
    for plan in plans:
        if plan.op >= Op.LEAST:
            cells[:, plan.word + 1] = -1
    return cells
