"""The fold: transactions to cells, in one pass of array operations per chunk of rows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from math import prod

import numpy as np
from numpy.typing import NDArray

from eptaro.core.cells import Cells, Tally
from eptaro.core.column import Column
from eptaro.core.days import Ints, as_date
from eptaro.core.errors import InputError, MeasureError
from eptaro.core.groups import Coded, Groups
from eptaro.core.measures import Plane

CHUNK = 1 << 16  # rows per step: the temporaries stay in the processor's cache
MAX_CELLS = 1 << 26  # 512 MiB per plane
_ROOM = 2**63  # one past the largest total that int64 holds
_ROWS = Plane("rows")


@dataclass(frozen=True, eq=False)
class Batch:
    """Transactions as arrays of one length: days, coded groups and measured columns."""

    days: NDArray[np.int32]
    groups: Mapping[str, Coded]
    values: Mapping[str, Column]

    def __len__(self) -> int:
        return len(self.days)


def fold(batch: Batch, planes: Iterable[Plane]) -> tuple[Groups, Cells]:
    """Return one cell per group and day for each plane, groups in natural order.

    Cost: one read of each column. Raises `MeasureError` where a total would not fit
    into 64 bits, `InputError` where groups times days would not fit into memory.
    """
    first = int(batch.days.min())
    days = int(batch.days.max()) - first + 1
    slots = _Slots.of(batch.groups, len(batch), MAX_CELLS // days)
    if slots.count * days > MAX_CELLS:
        raise InputError(
            f"{slots.count:,} groups over {days:,} days ({as_date(first)} to "
            f"{as_date(first + days - 1)}) make {slots.count * days:,} cells, more than the "
            f"{MAX_CELLS:,} that fit; group by fewer columns, or look for a date far off the rest"
        )
    steps = {plane: _Step(plane, batch.values.get(plane.column)) for plane in (_ROWS, *planes)}
    tallies = {plane: step.empty(slots.count * days) for plane, step in steps.items()}
    for start in range(0, len(batch), CHUNK):
        rows = slice(start, start + CHUNK)
        cell = slots.at(rows)
        cell *= days
        cell += batch.days[rows]
        cell -= first
        for plane, step in steps.items():
            step.add(cell, rows, tallies[plane])
    cells = Cells(first, days, slots.count, tallies)
    filled = tallies[_ROWS].whole.reshape(slots.count, days).any(axis=1)
    groups, order = slots.groups(np.flatnonzero(filled))
    return groups, cells.picked(order)


class _Slots:
    """A place for each combination of group values, before it is known which occur.

    The place of a row is a number whose digits are its codes, the blank being digit 0.
    Where these are too many, `_packed` holds the place of each row among those that occur.
    """

    def __init__(self, coded: Mapping[str, Coded], rows: int) -> None:
        self._coded, self._rows = coded, rows
        self._sizes = [len(column.choices) + 1 for column in coded.values()]
        self._present: Ints | None = None
        self._packed: Ints | None = None
        self.count = prod(self._sizes)
        if self.count >= _ROOM:
            raise InputError(f"{len(coded)} group columns have too many combinations to count")

    @classmethod
    def of(cls, coded: Mapping[str, Coded], rows: int, room: int) -> _Slots:
        slots = cls(coded, rows)
        if slots.count > max(room // 4, 1):
            numbers = np.concatenate(
                [slots._numbers(slice(at, at + CHUNK)) for at in range(0, rows, CHUNK)]
            )
            slots._present, slots._packed = np.unique(numbers, return_inverse=True)
            slots.count = len(slots._present)
        return slots

    def at(self, rows: slice) -> Ints:
        """Return the place of each of some rows, as an array that the caller may change."""
        return self._numbers(rows) if self._packed is None else self._packed[rows].copy()

    def _numbers(self, rows: slice) -> Ints:
        columns = list(self._coded.values())
        if not columns:
            return np.zeros(len(range(*rows.indices(self._rows))), np.int64)
        numbers = columns[0].codes[rows].astype(np.int64)
        numbers += 1
        for column, size in zip(columns[1:], self._sizes[1:], strict=True):
            numbers *= size
            numbers += column.codes[rows]
            numbers += 1
        return numbers

    def groups(self, places: Ints) -> tuple[Groups, Ints]:
        """Return the groups at the places that occur, in natural order, and that order."""
        if not self._coded:
            return Groups({}, 1), places
        numbers = places if self._present is None else self._present[places]
        digits = np.unravel_index(numbers, self._sizes)
        codes = {name: digit - 1 for name, digit in zip(self._coded, digits, strict=True)}
        ranks = [column.ranks[codes[name]] for name, column in self._coded.items()]
        order = np.lexsort(ranks[::-1])
        kept = {
            name: Coded(codes[name][order].astype(np.int32), column.choices)
            for name, column in self._coded.items()
        }
        return Groups(kept, len(places)), places[order]


class _Step:
    """How one plane adds a chunk of rows to its cells."""

    def __init__(self, plane: Plane, column: Column | None) -> None:
        self._plane, self._column = plane, column
        self._split = False
        if column is not None and plane.what == "sum":
            self._split = column.kind == "float" and _float_room(column)
            if column.kind != "float":
                _check_room(column)

    def empty(self, size: int) -> Tally:
        whole = np.zeros(size, np.int64)
        if self._column is None or self._plane.what == "filled":
            return Tally(whole)
        rest = np.zeros(size) if self._column.kind == "float" else None
        return Tally(whole, rest, self._column.kind, self._column.scale)

    def add(self, cell: NDArray[np.intp], rows: slice, tally: Tally) -> None:
        column = self._column
        if column is None:
            np.add.at(tally.whole, cell, 1)
            return
        data = column.data[rows]
        valid = None if column.valid is None else column.valid[rows]
        if column.kind == "float":
            present = ~np.isnan(data)
            valid = present if valid is None else valid & present
            valid = None if valid.all() else valid
        if valid is not None:
            cell, data = cell[valid], data[valid]
        if self._plane.what == "filled":
            np.add.at(tally.whole, cell, 1)
        elif tally.rest is None:
            np.add.at(tally.whole, cell, data)
        elif self._split:
            whole = np.rint(data)
            np.add.at(tally.whole, cell, whole.astype(np.int64))
            np.add.at(tally.rest, cell, data - whole)
        else:
            np.add.at(tally.rest, cell, data)


def _check_room(column: Column) -> None:
    """Raise where the sum of absolute values might not fit into int64."""
    data = column.data if column.valid is None else column.data[column.valid]
    if not len(data):
        return
    largest = max(abs(int(data.min())), abs(int(data.max())))
    if largest * len(data) >= _ROOM and np.abs(data.astype(np.float64)).sum() >= 0.999 * _ROOM:
        raise MeasureError(
            f"the total of {column.name!r} does not fit into 64 bits "
            f"(its values reach {largest:,} in units of 10**-{column.scale})"
        )


def _float_room(column: Column) -> bool:
    """Return whether whole parts fit int64; raise where a value is infinite."""
    data = column.data if column.valid is None else column.data[column.valid]
    with np.errstate(over="ignore"):
        total = float(np.nansum(np.abs(data)))
    if not np.isfinite(total):
        rows = np.flatnonzero(np.isinf(column.data))
        where = f"row {rows[0] + 1:,} is infinite" if len(rows) else "its sum is infinite"
        raise MeasureError(f"column {column.name!r} cannot be added up: {where}")
    return total < _ROOM / 2
