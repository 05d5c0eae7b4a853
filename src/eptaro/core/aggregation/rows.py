"""Folding the rows of a batch to cells: a step for each plane, and the loops that run them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from copy import copy
from functools import cached_property, partial
from typing import Any, NamedTuple, assert_never

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Tally, What
from eptaro.core.aggregation.selected import SelectedValues, ValueLists, Which
from eptaro.core.aggregation.sums import LARGEST_SQUARED, Squares, Sum, square_values
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.folding import (
    HALF,
    LIMB,
    MOST_PLANS,
    WORDS,
    Op,
    Plan,
    count_words,
    empty_cells,
    fold,
    join_cells,
)
from eptaro.core.kernels.parallel import as_contiguous, parallel_for, run_parallel
from eptaro.core.kernels.reading import Extent, Times
from eptaro.core.kernels.sorting import distinct_sorted, in_cell_order
from eptaro.core.results.column import Column
from eptaro.errors import MeasureError

_NO_DAYS, _NO_SLOTS = np.empty(0, np.int32), np.empty(0, np.int64)


class RowCellIndex:
    """The cell of each row among `size`: slot * width + day - first, where either may be missing.

    With an `order`, the n-th cell is that of row `order[n]`. Where it `is_in_order`, rows of one
    are side by side.
    """

    def __init__(
        self,
        days: NDArray[np.int32] | None,
        slots: NDArray[Any] | None,
        first: int,
        width: int,
        size: int,
        order: NDArray[np.int32] | None = None,
        *,
        in_order: bool = False,
    ) -> None:
        """`days`, `slots` and `order` are `(n_rows,)`."""
        self.days = _NO_DAYS if days is None else np.ascontiguousarray(days)
        self.slots = _NO_SLOTS if slots is None else np.ascontiguousarray(slots)
        self.first, self.width, self.size, self.order = first, width, size, order
        self.is_in_order = in_order or order is not None

    def occupied_cells(self) -> tuple[Ints, RowCellIndex]:
        """Return the cells that hold rows, and the places of rows among them."""
        rows = np.arange(len(self.days) or len(self.slots), dtype=np.int32)
        cells, order = self._in_order(self.days, self.slots, rows)
        keys, places = distinct_sorted(cells)
        return keys, RowCellIndex(None, places, 0, 1, len(keys), order)

    def occupied_cells_by(self, values: NDArray[Any]) -> tuple[Ints, RowCellIndex, NDArray[Any]]:
        """Return the cells that hold rows, the places of rows among them in order, and the values
        of the rows, which are moved along.

        `values` is `(n_rows,)`, the cells are `(n_cells,)`.
        """
        cells, moved = self._in_order(self.days, self.slots, values)
        keys, places = distinct_sorted(cells)
        return keys, RowCellIndex(None, places, 0, 1, len(keys), in_order=True), moved

    def at(self, rows: Ints) -> Ints:
        """Return the cells of some rows. `rows` is `(n,)`."""
        if self.order is not None:
            rows = self._place_of_row[rows].astype(np.int64)
        if not len(self.days):
            return np.asarray(self.slots[rows], np.int64)
        if not len(self.slots):
            return np.asarray(self.days[rows], np.int64) - self.first
        cell: Ints = self.slots[rows].astype(np.int64)
        cell *= self.width
        cell += self.days[rows]
        cell -= self.first
        return cell

    def in_order(
        self, values: NDArray[Any], filled: Flags | None
    ) -> tuple[NDArray[Any], NDArray[Any]]:
        """Return the cells of filled rows in order, and the values of these rows.

        `values` and `filled` are `(n_rows,)`, the results `(n_filled,)`.
        """
        if self.order is not None:
            cells, values = self.slots, values[self.order]
            if filled is None:
                return cells, values
            filled = filled[self.order]
            return cells[filled], values[filled]
        days, slots = self.days, self.slots
        if filled is not None:
            values = values[filled]
            days = days[filled] if len(days) else days
            slots = slots[filled] if len(slots) else slots
        moved = np.arange(len(values)) if values.dtype == object else values
        cells, moved = self._in_order(days, slots, moved)
        return cells, values[moved] if values.dtype == object else moved

    def _in_order(
        self, days: NDArray[np.int32], slots: NDArray[Any], moved: NDArray[Any]
    ) -> tuple[NDArray[Any], NDArray[Any]]:
        """Return the cells of some rows in order, and what moves with them.

        All arrays are `(n_rows,)`.
        """
        return in_cell_order(days, slots, self.first, self.width, moved, self.size)

    @cached_property
    def _place_of_row(self) -> NDArray[np.int32]:
        assert self.order is not None
        places = np.empty_like(self.order)
        places[self.order] = np.arange(len(places), dtype=np.int32)
        return places


CellWords = Sequence[NDArray[np.int64]]

# Two values below it add up in 64 bits; larger ones are added up apart, as Python integers.
_LARGEST_SUMMED = 1 << 62
# The nearest whole number of a float below it is exact, also while rows are counted in one word.
_MOST_PACKED = 1 << 51
_ROOM = 62  # bits of a count and a sum in one word: the sign and one bit against overflow are left
_PICKED = {"min": Op.LEAST, "max": Op.LARGEST, "first": Op.FIRST, "last": Op.LAST}


class Step:
    """How one plane of a batch is folded.

    With an `op` the kernel fills words of each cell from `values` and `filled`; `tally` reads
    them, each an array over all cells, and calculates the rest from the cells of rows. `packed` is
    a plan by which the first word holds the number of rows as well, in its lower bits.
    """

    op: Op | None = None
    values: NDArray[Any] | None = None
    filled: Flags | None = None
    centre = 0
    moves = False  # whether the values may be put in order themselves

    def plan(self) -> Plan:
        """Return what the kernel is to do, with the first word of a cell."""
        assert self.op is not None
        values, filled = (
            None if part is None else np.ascontiguousarray(part)
            for part in (self.values, self.filled)
        )
        flags = None if filled is None else filled.view(np.uint8)
        return Plan(self.op, 0, values, flags, self.centre)

    def plan_packed(self, rows: int) -> Plan | None:
        """Return what the kernel is to do if it counts rows as well; None where there is no room
        for that.
        """
        return None

    def move(self, values: NDArray[Any]) -> Step:
        """Return the step for rows in another order, whose values are given.

        `values` is `(n_rows,)`.
        """
        moved_step = copy(self)
        moved_step.values = values
        return moved_step

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> Tally:
        """Return the result of all rows."""
        raise NotImplementedError


class Counted(Step):
    """Counts rows."""

    op = Op.ROWS

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> Sum:
        """Return how many rows each cell has."""
        return Sum(as_contiguous(words[0]))


class _Filled(Counted):
    op = Op.FILLED

    def __init__(self, column: Column) -> None:
        self.filled = column.valid
        self.values = column.data if column.kind == "float" else None


class _Summed(Step):
    """Adds up whole parts, in two halves where 64 bits might not hold the sum."""

    def __init__(self, column: Column, extent: Extent) -> None:
        self._column, self.filled = column, column.valid
        self._most = most = _largest_distance(column, extent, 0)
        self._beyond = _rows_from(column, 0, _LARGEST_SUMMED, most)
        self.values = _values_without(column, self._beyond)
        self.moves = self.filled is None and self._beyond is None
        # By the extent alone it is known whether any sum could overflow: most never can, and are
        # spared the second word.
        halves = min(most, _LARGEST_SUMMED) * len(column) >= bigint.ROOM
        if column.kind == "float":
            self.op = Op.SUM_FLOATS_HALVES if halves else Op.SUM_FLOATS
        else:
            self.op = Op.SUM_HALVES if halves else Op.SUM

    def plan_packed(self, rows: int) -> Plan | None:
        bits = rows.bit_length()
        # Count and sum share a word, and with it one write to memory per row, where both fit.
        if self._beyond is not None or (self._most + 1) * rows >= 1 << (_ROOM - bits):
            return None
        if self._most >= _MOST_PACKED:
            return None
        op = Op.PACKED_FLOATS if self._column.kind == "float" else Op.PACKED
        return self.plan()._replace(op=op, shift=bits)

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> Sum:
        whole: NDArray[Any] = as_contiguous(words[0])
        halves = self.op in (Op.SUM_HALVES, Op.SUM_FLOATS_HALVES)
        if halves:
            whole = _join_halves(words[1], whole)
        if self._beyond is not None:
            beyond = bigint.widen(self._column.data[self._beyond])
            whole = bigint.widen(whole) + _add_objects(
                beyond, cells_of.at(self._beyond), len(whole)
            )
        rest = None
        if self._column.kind == "float":
            rest = as_contiguous(words[1 + halves]).view(np.float64)
        whole = bigint.added_up(whole) if halves or self._beyond is not None else whole
        return Sum(whole, rest, self._column.kind, self._column.scale)


class _Squared(Step):
    """Adds up squares, in three limbs where 64 bits might not hold the sum."""

    def __init__(self, column: Column, extent: Extent, centre: int) -> None:
        self._column, self.filled, self.centre = column, column.valid, centre
        most = _largest_distance(column, extent, centre)
        self._beyond = _rows_from(column, centre, LARGEST_SQUARED, most)
        self.values = _values_without(column, self._beyond, centre)
        limbs = (min(most, LARGEST_SQUARED) + 1) ** 2 * 2 * len(column) >= bigint.ROOM
        if column.kind == "float":
            self.op = Op.SQUARE_FLOATS_LIMBS if limbs else Op.SQUARE_FLOATS
        else:
            self.op = Op.SQUARE_LIMBS if limbs else Op.SQUARE

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> Squares:
        column, size = self._column, len(words[0])
        limbs = 3 if self.op in (Op.SQUARE_LIMBS, Op.SQUARE_FLOATS_LIMBS) else 1
        whole: NDArray[Any] = as_contiguous(words[0])
        for number in range(1, limbs):
            whole = bigint.widen(whole) + (bigint.widen(words[number]) << (number * LIMB))
        rest = None
        if column.kind == "float":
            rest = as_contiguous(words[limbs]).view(np.float64)
        if self._beyond is not None:
            cell = cells_of.at(self._beyond)
            squares, low = square_values(column.data[self._beyond], column.kind, self.centre)
            whole = bigint.widen(whole) + _add_objects(squares, cell, size)
            if rest is not None and low is not None:
                rest += np.bincount(cell, low, size)
        return Squares(bigint.added_up(whole), column.kind, column.scale, self.centre, rest)


class _Kept(Step):
    """Keeps the filled rows."""

    def __init__(self, column: Column) -> None:
        self._column = column

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> ValueLists:
        column = self._column
        lists = cells_of.in_order(column.data, column.filled_mask(slice(None)))
        return ValueLists(*lists, column.kind, column.scale)


class _Picked(Step):
    """Picks the least, largest, first or last value."""

    def __init__(self, column: Column, which: Which, batch: Batch) -> None:
        self._column, self._which, self._batch = column, which, batch
        if column.data.dtype != object:
            self.op = _PICKED[which]
            self.values, self.filled = _values_without(column, None), column.valid

    def tally(self, words: CellWords, cells_of: RowCellIndex) -> SelectedValues:
        column, times = self._column, self._batch.times
        if self.op is None:
            filled = column.filled_mask(slice(None))
            row = np.arange(len(column)) if filled is None else np.flatnonzero(filled)
            cell, value = cells_of.at(row), column.data[row]
        else:
            cell = np.flatnonzero(words[1] >= 0)
            row = words[1][cell]
            row = row if cells_of.order is None else cells_of.order[row].astype(np.int64)
            value = words[0][cell].view(column.data.dtype if column.kind == "float" else np.int64)
        time = np.zeros(len(row), np.int64) if times is None else times[row]
        row = row + self._batch.first_row
        selected = SelectedValues(
            self._which, cell, value, time, row, column.kind, column.scale, choices=column.choices
        )
        return selected.winners_of(cells_of.size) if self.op is None else selected


def step_of(what: What, column: Column, batch: Batch, centre: int) -> Step:
    """Return how a plane of a column is folded.

    `centre` is the whole number about which squares of floats are kept.
    """
    match what:
        case "filled" if not batch.extent(column.name).blanks:
            return Counted()
        case "filled":
            return _Filled(column)
        case "sum":
            return _Summed(column, batch.extent(column.name))
        case "square":
            return _Squared(column, batch.extent(column.name), centre)
        case "min" | "max" | "first" | "last":
            return _Picked(column, what, batch)
        case "values" | "codes":
            return _Kept(column)
        case "rows":
            raise ValueError("rows are counted without a column: use Counted")
        case _:
            assert_never(what)


def _largest_distance(column: Column, extent: Extent, centre: int) -> int:
    """Return how far values lie from a centre at most, as a whole number.

    Raises `MeasureError` where a float is infinite.
    """
    least, most, _ = extent
    if not least <= most:
        return 0  # all are blank
    if column.kind != "float":
        return max(abs(int(least)), abs(int(most)))
    if np.isinf(least) or np.isinf(most):
        row = int(np.flatnonzero(np.isinf(column.data))[0])
        raise MeasureError(
            f"column {column.name!r} cannot be added up: row {row + 1:,} is infinite"
        )
    return int(max(abs(least - centre), abs(most - centre))) + 1


def _rows_from(column: Column, centre: int, limit: int, most: int) -> Ints | None:
    """Return the filled rows that lie as far as a limit from a centre; None where none do."""
    if most < limit:
        return None
    values: NDArray[Any] = column.data
    if column.kind == "float":
        values = np.rint(values)
    elif values.dtype != object:
        values = values.astype(np.float64) if limit > 1 << 53 else values
    far = np.asarray((values >= centre + limit) | (values <= centre - limit))
    if column.valid is not None:
        far &= column.valid
    return np.flatnonzero(far) if far.any() else None


def _values_without(column: Column, rows: Ints | None, centre: int = 0) -> NDArray[Any]:
    """Return the values as the kernel takes them, some of them at the centre, where they add
    nothing.

    `rows`, the places of the values left out, is `(n,)`.
    """
    values: NDArray[Any] = column.data
    if rows is not None:
        values = values.copy()
        values[rows] = centre
    if column.kind == "float":
        return values
    return np.ascontiguousarray(values.astype(np.int64, copy=False))


def _join_halves(high: Ints, low: Ints) -> NDArray[Any]:
    """Return sums of which the halves are known, wide where 64 bits do not hold them.

    All arrays are `(n_cells,)`.
    """
    high, low = high + (low >> HALF), low & ((1 << HALF) - 1)
    if bigint.largest_absolute(high) < 1 << (62 - HALF):
        return (high << HALF) + low
    return (bigint.widen(high) << HALF) + bigint.widen(low)


def _add_objects(values: NDArray[Any], cell: Ints, size: int) -> NDArray[Any]:
    """Return Python integers added up, each in its cell.

    `values` and `cell` are `(n_rows,)`, the sums `(size,)`.
    """
    sums = np.zeros(size, object)
    np.add.at(sums, cell, values)
    return sums


_MOST_PARTS = 4
_LEAST_PART = 400_000  # rows
_NO_TIMES = np.empty(0, np.int64)
AllWords = NDArray[np.int64]


def run_steps(steps: Sequence[Step], cells_of: RowCellIndex, batch: Batch) -> list[Tally]:
    """Return what each step makes of the rows of a batch."""
    counting = [step for step in steps if step.op == Op.ROWS]  # all of these count the same rows
    others = [step for step in steps if step.op not in (None, Op.ROWS)]
    packed = _packed_step(others, len(batch)) if counting else None
    plans: list[Plan] = []
    begins: dict[Step, int] = {}
    word = 0
    for step in others if packed else [*counting[:1], *others]:
        begins[step] = word
        plan = packed.plan if packed and step is packed.step else step.plan()
        plans.append(plan._replace(word=word))
        word += WORDS[plan.op]
    words = [*_fold_words(plans, cells_of, batch).T]
    parts_of = {step: words[begin:] for step, begin in begins.items()}
    if packed:
        both, shift = parts_of[packed.step], packed.plan.shift
        sums, rows = _split_packed(both[0], shift)
        parts_of[packed.step] = [sums, *both[1:]]
        parts_of[counting[0]] = [rows]
    parts_of |= dict.fromkeys(counting[1:], parts_of[counting[0]] if counting else [])
    counts = counting[0].tally(parts_of[counting[0]], cells_of) if counting else None
    return [  # planes that only count rows are one and the same, and are kept once
        step.tally(parts_of.get(step, []), cells_of)
        if counts is None or step.op != Op.ROWS
        else counts
        for step in steps
    ]


def sole_values(steps: Sequence[Step]) -> Step | None:
    """Return the one step that adds up values, where all others only count rows: its values can be
    put in order themselves, which is quicker than to look them up.
    """
    others = [step for step in steps if step.op != Op.ROWS]
    return others[0] if len(others) == 1 and others[0].moves else None


def _split_packed(both: Ints, shift: int) -> tuple[Ints, Ints]:
    """Return the sums and the numbers of rows that are in one word each.

    All arrays are `(n_cells,)`.
    """
    sums, rows = np.empty((2, len(both)), np.int64)

    def some(of: slice) -> None:
        np.right_shift(both[of], shift, out=sums[of])
        np.bitwise_and(both[of], (1 << shift) - 1, out=rows[of])

    parallel_for(some, len(both))
    return sums, rows


class _Packed(NamedTuple):
    """A step whose first word has room for the number of rows, and its plan."""

    step: Step
    plan: Plan


def _packed_step(steps: Iterable[Step], rows: int) -> _Packed | None:
    """Return the first step that has such room; None where there is none."""
    plans = ((step, step.plan_packed(rows)) for step in steps)
    return next((_Packed(step, plan) for step, plan in plans if plan is not None), None)


def _fold_words(plans: Sequence[Plan], cells_of: RowCellIndex, batch: Batch) -> AllWords:
    """Return the words of all cells.

    Rows in the order of their cells are cut where cells end, and no two parts share one. Of
    others, parts are folded side by side and joined in their order; how many there are depends
    on the rows and cells alone, so that sums of floats do not depend on the machine.
    """
    rows, size = len(batch), cells_of.size
    times: Times = _NO_TIMES
    if batch.times is not None and any(plan.op >= Op.FIRST for plan in plans):
        times = batch.times
    most = min(_MOST_PARTS, rows // _LEAST_PART)
    if cells_of.is_in_order:
        words = empty_cells(size, plans)
        cuts = _slices_of_whole_cells(cells_of.slots, max(most, 1))
        run_parallel([partial(_fold_part, plans, cells_of, times, of, words) for of in cuts])
        return words
    parts = max(min(most, 2 * rows // (size * count_words(plans))), 1)
    cuts = [slice(rows * n // parts, rows * (n + 1) // parts) for n in range(parts)]

    def one(of: slice) -> AllWords:
        words = empty_cells(size, plans)
        _fold_part(plans, cells_of, times, of, words)
        return words

    words, *others = run_parallel([partial(one, of) for of in cuts])

    def join_some(of: slice) -> None:
        for other in others:  # each cell in the order of the parts
            join_cells(words[of], other[of], plans)

    parallel_for(join_some, size, each=count_words(plans))
    return words


def _fold_part(
    plans: Sequence[Plan], cells_of: RowCellIndex, times: Times, of: slice, words: AllWords
) -> None:
    """Fold some rows. `times` is `(n_rows,)` or empty, `words` is `(n_cells, n_words)`."""
    rows: Any = of if cells_of.order is None else cells_of.order[of]
    own = [
        plan._replace(
            values=None if plan.values is None else plan.values[rows],
            filled=None if plan.filled is None else plan.filled[rows],
        )
        for plan in plans
    ]
    moments = times[rows] if len(times) else _NO_TIMES
    days, slots = cells_of.days[of], cells_of.slots[of]
    for start in range(0, len(own), MOST_PLANS):
        some = own[start : start + MOST_PLANS]
        fold(days, slots, cells_of.first, cells_of.width, words, some, moments, of.start)


def _slices_of_whole_cells(cells: NDArray[Any], parts: int) -> list[slice]:
    """Return about as many parts of cells that are in order, none of which shares a cell.

    `cells` is `(n_rows,)`.
    """
    near = len(cells) * np.arange(1, parts) // parts  # then back to where that cell begins
    ends = np.unique(np.searchsorted(cells, cells[near])).tolist()
    return [slice(*cut) for cut in zip([0, *ends], [*ends, len(cells)], strict=True)]
