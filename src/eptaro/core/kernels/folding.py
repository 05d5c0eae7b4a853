"""Rows folded to cells: by the compiled loop, or in NumPy a plan at a time over chunks of rows.

Both leave the same words in the cells, to the last bit.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import IntEnum
from typing import Any, NamedTuple, assert_never

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, Flags, Ints
from eptaro.core.kernels import dispatch

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
WITH_REST = (  # whose last word is a float
    Op.SUM_FLOATS,
    Op.SUM_FLOATS_HALVES,
    Op.PACKED_FLOATS,
    Op.SQUARE_FLOATS,
    Op.SQUARE_FLOATS_LIMBS,
)


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


def count_words(plans: Iterable[Plan]) -> int:
    """Return how many words of a cell plans fill."""
    return max(plan.word + WORDS[plan.op] for plan in plans)


def empty_cells(size: int, plans: Iterable[Plan]) -> NDArray[np.int64]:
    """Return cells that hold nothing yet, `(size, n_words) int64`: zeros, but -1 for the row of a
    picked value; the least and the largest begin with a value that no other loses to.
    """
    plans = list(plans)
    nothing = np.zeros(count_words(plans), np.int64)
    for plan in plans:
        if plan.op < Op.LEAST:
            continue
        nothing[plan.word + 1] = -1
        if plan.op in (Op.LEAST, Op.LARGEST):
            assert plan.values is not None
            worst = identity_of(plan.values.dtype, least_wins=plan.op == Op.LEAST)
            nothing[plan.word] = np.array(worst, plan.values.dtype).view(np.int64)
    cells = np.zeros((size, len(nothing)), np.int64)
    if nothing.any():
        cells[:] = nothing
    return cells


MOST_PLANS = 64  # that the compiled loops take at once
CHUNK = 1 << 16  # rows per step: the temporaries stay in the processor's cache
_NO_CELLS = np.empty(0, np.int64)
_LARGEST_WHOLE = 1 << 62  # floats from there on are not summed
_LARGEST_PACKED = 1 << 51  # nor those from there on together with a count
_LARGEST_AWAY = 1 << 44  # numbers from there on are not squared
_LOW_HALF = (1 << HALF) - 1
_LOW_LIMB = (1 << LIMB) - 1


def fold(
    days: NDArray[np.int32],
    slots: NDArray[Any],
    first: int,
    width: int,
    cells: NDArray[np.int64],
    plans: Sequence[Plan],
    times: Ints,
    first_row: int,
) -> None:
    """Add rows to the words of their cells, as their plans say.

    `days`, `slots` and `times` are `(n_rows,)`, `cells` is `(n_cells, n_words)`.

    The cell of a row is `slot * width + day - first`; `days` (int32) or `slots` (int32 or
    int64) may be empty, which represents zeros, and so may `times`. Rows are numbered from
    `first_row`. Raises `IndexError` for rows outside the cells, `ValueError` for values too
    large for their plan and for arrays of different lengths; the cells are then of no use.

    >>> from eptaro.core.kernels.folding import empty_cells
    >>> values, none = np.array([1.25, 2.5, -0.5]), np.empty(0, np.int64)
    >>> plans = [Plan(Op.ROWS, 0), Plan(Op.SUM_FLOATS, 1, values)]
    >>> cells = empty_cells(2, plans)
    >>> fold(np.array([7, 7, 8], np.int32), none, 7, 1, cells, plans, none, 0)
    >>> cells[:, 0].tolist(), cells[:, 1].tolist(), cells[:, 2].view(float).tolist()
    ([2, 1], [3, 0], [0.75, -0.5])
    """
    if dispatch.loops is not None:
        dispatch.loops.fold(days, slots, first, width, cells, plans, times, first_row)
        return
    rows = len(days) or len(slots)
    for part in (days, slots, times, *(p for plan in plans for p in (plan.values, plan.filled))):
        if part is not None and len(part) not in (0, rows):
            raise ValueError(f"an array of {len(part)} for {rows} rows")
    ordered_plans = [plan for plan in plans if plan.op >= Op.LEAST]
    added = [plan for plan in plans if plan.op < Op.LEAST]
    for start in range(0, rows, CHUNK):
        chunk = slice(start, min(start + CHUNK, rows))
        at = _cell_of_each_row(days[chunk], slots[chunk], first, width, len(cells))
        for plan in added:
            _add(plan, cells, at, chunk)
    at = _cell_of_each_row(days, slots, first, width, len(cells)) if ordered_plans else _NO_CELLS
    for plan in ordered_plans:
        there = _filled_rows(plan, slice(rows))
        undecided = np.arange(rows) if there is None else np.flatnonzero(there)
        assert plan.values is not None
        _pick(plan, cells, at[undecided], plan.values[undecided], undecided, times, first_row)


def _cell_of_each_row(days: Days, slots: Ints, first: int, width: int, size: int) -> Ints:
    """Return the cells of rows.

    `days`, `slots` and the cells are `(n_rows,)`; one of the two may be empty.
    """
    at: Ints = np.zeros(len(days) or len(slots), np.int64)
    if len(slots):
        at += slots
        at *= width
    if len(days):
        at += days
        at -= first
    if len(at) and (at.min() < 0 or at.max() >= size):
        raise IndexError(f"rows reach outside the {size} cells")
    return at


def _add(plan: Plan, cells: NDArray[np.int64], at: Ints, chunk: slice) -> None:
    """Add a chunk of rows to their cells.

    `cells` is `(n_cells, n_words)`, `at` is `(n_rows_of_the_chunk,)`.
    """
    op, word = plan.op, plan.word
    there = _filled_rows(plan, chunk)
    every = at
    if there is not None:
        at = at[there]
    values: Any = None
    if plan.values is not None:
        values = plan.values[chunk] if there is None else plan.values[chunk][there]
    match op:
        case Op.ROWS | Op.FILLED:
            np.add.at(cells[:, word], at, 1)
        case Op.SUM | Op.SUM_HALVES:
            _add_whole(cells, word, at, values, halves=op == Op.SUM_HALVES)
        case Op.SUM_FLOATS | Op.SUM_FLOATS_HALVES:
            _check_size(values, _LARGEST_WHOLE)
            nearest = np.rint(values)
            halves = op == Op.SUM_FLOATS_HALVES
            _add_whole(cells, word, at, nearest.astype(np.int64), halves=halves)
            np.add.at(_float_word(cells, word + 1 + halves), at, values - nearest)
        case Op.PACKED:
            np.add.at(cells[:, word], every, 1)
            np.add.at(cells[:, word], at, values << plan.shift)
        case Op.PACKED_FLOATS:
            _check_size(values, _LARGEST_PACKED)
            nearest = np.rint(values)
            np.add.at(cells[:, word], every, 1)
            np.add.at(cells[:, word], at, nearest.astype(np.int64) << plan.shift)
            np.add.at(_float_word(cells, word + 1), at, values - nearest)
        case Op.SQUARE | Op.SQUARE_LIMBS:
            _check_size(values, _LARGEST_AWAY)
            _add_square(cells, word, at, values, None, limbs=op == Op.SQUARE_LIMBS)
        case Op.SQUARE_FLOATS | Op.SQUARE_FLOATS_LIMBS:
            nearest = np.rint(values)
            low, away = values - nearest, nearest - plan.centre
            _check_size(away, _LARGEST_AWAY)
            extra, rest = square_remainder(away, low)
            limbs = op == Op.SQUARE_FLOATS_LIMBS
            squared = away.astype(np.int64), extra.astype(np.int64)
            _add_square(cells, word, at, *squared, limbs=limbs)
            np.add.at(_float_word(cells, word + (3 if limbs else 1)), at, rest)
        case Op.LEAST | Op.LARGEST | Op.FIRST | Op.LAST:
            raise ValueError(f"{op.name} is picked, not added")
        case _:
            assert_never(op)


def _filled_rows(plan: Plan, chunk: slice) -> Flags | None:
    """Return which rows of a chunk hold a value; None for all."""
    if plan.op == Op.ROWS:
        return None
    there = None if plan.filled is None else plan.filled[chunk].view(bool)
    if plan.values is not None and plan.values.dtype.kind == "f":
        filled = ~np.isnan(plan.values[chunk])
        there = filled if there is None else there & filled
    return there


def _float_word(cells: NDArray[np.int64], word: int) -> NDArray[np.float64]:
    """Return a word of all cells, which is a float.

    `cells` is `(n_cells, n_words)`, the word `(n_cells,)`.
    """
    return cells.view(np.float64)[:, word]


def _check_size(values: NDArray[Any], largest: int) -> None:
    """Refuse values `(n_rows,)` that are too large for a plan's words."""
    if not ((values > -largest) & (values < largest)).all():
        raise ValueError("values are too large for their plan")


def _add_whole(
    cells: NDArray[np.int64], word: int, at: Ints, values: Ints, *, halves: bool
) -> None:
    """Add whole numbers to a word of `cells`, `(n_cells, n_words)`; `at` and `values` are
    `(n_rows,)`.
    """
    if halves:
        np.add.at(cells[:, word + 1], at, values >> HALF)
        values = values & _LOW_HALF
    np.add.at(cells[:, word], at, values)


def _add_square(
    cells: NDArray[np.int64], word: int, at: Ints, values: Ints, extra: Ints | None, *, limbs: bool
) -> None:
    """Add squares, and extra whole numbers that are below 2**46.

    `cells` is `(n_cells, n_words)`; `at`, `values` and `extra` are `(n_rows,)`.
    """
    if limbs:
        low, middle, high = limbs_of(np.abs(values))
        if extra is not None:
            low, middle = low + (extra & _LOW_LIMB), middle + (extra >> LIMB)
        for number, part in enumerate((low, middle, high)):
            np.add.at(cells[:, word + number], at, part)
    else:
        np.add.at(cells[:, word], at, values**2 if extra is None else values**2 + extra)


def square_remainder(
    away: NDArray[np.float64], low: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return what (away + low)**2 has beside away**2: the nearest whole number, and the rest.

    Both are `(n,)`, and so are the results.

    `away` are whole numbers, `low` at most 0.5. What rounding takes from their product is found
    by Dekker's algorithm (Numerische Mathematik 18, 1971), so that values which are near each
    other keep their spread, however large they are.

    >>> extra, rest = square_remainder(np.array([2.0**40]), np.array([0.1]))
    >>> float(extra[0]), float(rest[0])
    (219902325555.0, 0.21001220703125)
    """
    double = 2 * away
    product = double * low
    (a, b), (c, d) = _split_mantissa(double), _split_mantissa(low)
    error = ((a * c - product) + a * d + b * c) + b * d
    extra = np.rint(product)
    return extra, (product - extra) + (error + low * low)


def _split_mantissa(values: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return two floats of 26 bits each that add up to each float. All arrays are `(n,)`."""
    shifted = 134217729.0 * values  # 2**27 + 1
    high = shifted - (shifted - values)
    return high, values - high


def limbs_of(sizes: Ints) -> tuple[Ints, Ints, Ints]:
    """Return the squares of whole numbers from 0 to 2**44, in three parts of about 30 bits.

    `sizes` is `(n,) int64`, and so are the parts.

    x = a * 2**24 + b, so x**2 = a**2 * 2**48 + a*b * 2**25 + b**2; each of these is cut at
    2**30 and 2**60.

    >>> low, middle, high = limbs_of(np.array([2**44 - 3]))
    >>> int(low[0]) + (int(middle[0]) << 30) + (int(high[0]) << 60) == (2**44 - 3) ** 2
    True
    """
    a, b = sizes >> 24, sizes & ((1 << 24) - 1)
    aa, ab, bb = a * a, a * b, b * b
    low = (bb & _LOW_LIMB) + ((ab & 31) << 25)
    middle = (bb >> LIMB) + ((ab >> 5) & _LOW_LIMB) + ((aa & 4095) << 18)
    return low, middle, (ab >> 35) + (aa >> 12)


def _pick(
    plan: Plan,
    cells: NDArray[np.int64],
    at: Ints,
    values: NDArray[Any],
    rows: Ints,
    times: Ints,
    first_row: int,
) -> None:
    """Let rows into the cells where they win; of equals the last row does, the first for FIRST.

    `cells` is `(n_cells, n_words)`, `times` one per row of the input or empty; the others are
    `(n_rows,)`.
    """
    current, held_row = cells.view(values.dtype)[:, plan.word], cells[:, plan.word + 1]
    keys, held_key = values, current
    if plan.op >= Op.FIRST:
        keys = times[rows] if len(times) else np.zeros(len(rows), np.int64)
        held_key = cells[:, plan.word + 2]
    least = plan.op in (Op.LEAST, Op.FIRST)
    best = np.where(held_row < 0, identity_of(keys.dtype, least_wins=least), held_key)
    (np.minimum if least else np.maximum).at(best, at, keys)
    wins = keys == best[at]
    if plan.op == Op.FIRST:
        wins &= (held_row < 0)[at] | (keys < held_key[at])
    winners = np.flatnonzero(wins)[:: -1 if plan.op == Op.FIRST else 1]
    place = np.full(len(cells), -1, np.int64)
    place[at[winners]] = winners
    won = np.flatnonzero(place >= 0)
    current[won] = values[place[won]]
    held_row[won] = rows[place[won]] + first_row
    if plan.op >= Op.FIRST:
        held_key[won] = keys[place[won]]


def join_cells(
    one: NDArray[np.int64], two: NDArray[np.int64], plans: Sequence[Plan]
) -> NDArray[np.int64]:
    """Return the cells of rows and of later rows as those of all of them; `one` is changed.

    Both are `(n_cells, n_words) int64`.
    """
    if dispatch.loops is not None:
        for start in range(0, len(plans), MOST_PLANS):
            dispatch.loops.join(one, two, plans[start : start + MOST_PLANS])
        return one
    for plan in plans:
        op, word = plan.op, plan.word
        if op >= Op.LEAST:
            _merge_picked(one, two, plan)
            continue
        end = word + WORDS[op]
        if op in WITH_REST:
            end -= 1
            _float_word(one, end)[:] += _float_word(two, end)
        one[:, word:end] += two[:, word:end]
    return one


def _merge_picked(one: NDArray[np.int64], two: NDArray[np.int64], plan: Plan) -> None:
    """Let the winners among the cells of `two` into `one`; both are `(n_cells, n_words)`."""
    assert plan.values is not None
    filled = two[:, plan.word + 1] >= 0
    if plan.op >= Op.FIRST:
        current, new = one[:, plan.word + 2], two[:, plan.word + 2]
    else:
        current, new = (cells.view(plan.values.dtype)[:, plan.word] for cells in (one, two))
    match plan.op:
        case Op.LEAST:
            wins = new <= current
        case Op.FIRST:
            wins = new < current
        case _:
            wins = new >= current
    wins_or_new = filled & (wins | (one[:, plan.word + 1] < 0))
    for word in range(plan.word, plan.word + WORDS[plan.op]):
        np.copyto(one[:, word], two[:, word], where=wins_or_new)


def identity_of(dtype: np.dtype[Any], *, least_wins: bool) -> Any:
    """Return what every other value of a type is at least as good as."""
    if dtype.kind in "fO":
        return np.inf if least_wins else -np.inf
    limits = np.iinfo(dtype)
    return limits.max if least_wins else limits.min
