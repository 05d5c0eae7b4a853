"""How each plane adds chunks of rows to its cells."""

from __future__ import annotations

from typing import Any, assert_never

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.batch import Batch
from eptaro.core.folds.cells import Tally
from eptaro.core.folds.picks import Entries, Pick, Which
from eptaro.core.folds.planes import What
from eptaro.core.folds.squares import Squares, Squaring
from eptaro.core.folds.sums import Sum
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column
from eptaro.errors import MeasureError

_ROOM = exact.ROOM


_HALF = 32


class Step:
    """How one plane adds chunks of rows to its cells."""

    def __init__(self, column: Column | None, size: int) -> None:
        self._column, self._size = column, size

    def add(self, cell: Ints, rows: slice) -> None:
        """Add a chunk of rows, each to its cell."""
        raise NotImplementedError

    def tally(self) -> Tally:
        """Return what all chunks come to."""
        raise NotImplementedError

    def _filled(self, cell: Ints, rows: slice) -> tuple[Ints, NDArray[Any], Any]:
        """Return cell, value and place (a slice or flags) of the rows that are not blank."""
        column = self._column
        assert column is not None
        data, valid = column.data[rows], column.filled(rows)
        if valid is None:
            return cell, data, slice(None)
        return cell[valid], data[valid], valid


class Counted(Step):
    """Counts rows."""

    def __init__(self, size: int) -> None:
        super().__init__(None, size)
        self._whole = np.zeros(size, np.int64)

    def add(self, cell: Ints, rows: slice) -> None:
        """Count a chunk of rows, each in its cell."""
        np.add.at(self._whole, cell, 1)

    def tally(self) -> Sum:
        """Return how many rows each cell has."""
        return Sum(self._whole)


class _Filled(Counted):
    def __init__(self, column: Column, size: int) -> None:
        super().__init__(size)
        self._column = column

    def add(self, cell: Ints, rows: slice) -> None:
        np.add.at(self._whole, self._filled(cell, rows)[0], 1)


class _Summed(Step):
    """Adds up whole parts in two halves of 32 bits where 64 bits might not hold the sum."""

    def __init__(self, column: Column, size: int) -> None:
        super().__init__(column, size)
        self._halves = not _fits(column)
        self._whole = np.zeros(size, np.int64)
        self._high = np.zeros(size if self._halves else 0, np.int64)
        self._beyond: Ints | None = None  # of floats too large for 64 bits themselves
        self._rest = np.zeros(size) if column.kind == "float" else None

    def add(self, cell: Ints, rows: slice) -> None:
        cell, data, _ = self._filled(cell, rows)
        if self._rest is not None:
            nearest = np.rint(data)
            np.add.at(self._rest, cell, data - nearest)
            if self._halves:
                nearest = self._without_beyond(cell, nearest)
            data = nearest.astype(np.int64)
        elif data.dtype == object:
            data = self._without_beyond(cell, data).astype(np.int64)
        if self._halves:
            np.add.at(self._high, cell, data >> _HALF)
            data = data & ((1 << _HALF) - 1)
        np.add.at(self._whole, cell, data)

    def _without_beyond(self, cell: Ints, whole: NDArray[Any]) -> NDArray[Any]:
        """Return the values with those beyond 62 bits added up apart and left out."""
        beyond = np.abs(whole) >= 1 << 62
        if beyond.any():
            if self._beyond is None:
                self._beyond = np.zeros(self._size, object)
            np.add.at(self._beyond, cell[beyond], exact.wide(whole[beyond]))
            whole = np.where(beyond, 0, whole)
        return whole

    def tally(self) -> Sum:
        assert self._column is not None
        whole: NDArray[Any] = self._whole
        if self._halves:
            whole = (exact.wide(self._high) << _HALF) + exact.wide(whole)
            if self._beyond is not None:
                whole = whole + self._beyond
            whole = exact.added_up(whole)
        return Sum(whole, self._rest, self._column.kind, self._column.scale)


class _Squared(Step):
    def __init__(self, column: Column, size: int, centre: int) -> None:
        super().__init__(column, size)
        if column.kind == "float":
            _fits(column)  # infinite values have no spread
        self._sums = Squaring(column.data, column.kind, centre, size)

    def add(self, cell: Ints, rows: slice) -> None:
        cell, data, _ = self._filled(cell, rows)
        self._sums.add(cell, data)

    def tally(self) -> Squares:
        assert self._column is not None
        return self._sums.squares(self._column.scale)


class _Kept(Step):
    """Keeps the filled rows of all chunks."""

    def __init__(self, column: Column, size: int) -> None:
        super().__init__(column, size)
        self._parts: list[tuple[Ints, NDArray[Any]]] = []

    def add(self, cell: Ints, rows: slice) -> None:
        cell, data, _ = self._filled(cell, rows)
        self._parts.append((_narrowed(cell, self._size), data))

    def tally(self) -> Tally:
        assert self._column is not None
        cell, value = (np.concatenate(part) for part in zip(*self._parts, strict=True))
        self._parts = []
        return Entries.of(cell, value, self._column.kind, self._column.scale)


class _Picked(Step):
    """Keeps the filled rows of all chunks, to be picked from at the end."""

    def __init__(self, column: Column, size: int, which: Which, batch: Batch) -> None:
        super().__init__(column, size)
        self._which, self._batch = which, batch
        self._parts: list[tuple[Ints, NDArray[Any], Ints]] = []

    def add(self, cell: Ints, rows: slice) -> None:
        start, count = rows.start, len(cell)
        cell, data, filled = self._filled(cell, rows)
        row = np.arange(start, start + count)[filled]
        self._parts.append((_narrowed(cell, self._size), data, row))

    def tally(self) -> Tally:
        column, times = self._column, self._batch.times
        assert column is not None
        cell, value, row = (np.concatenate(part) for part in zip(*self._parts, strict=True))
        self._parts = []
        time = np.zeros(len(row), np.int64) if times is None else times[row]
        row = row + self._batch.first_row
        every = Pick(self._which, cell, value, time, row, column.kind, column.scale)
        return every.won(self._size)


def _narrowed(cell: Ints, size: int) -> Ints:
    """Return the places of cells in 32 bits where these hold them."""
    return cell.astype(np.int32) if size < 1 << 31 else cell


def step_of(what: What, column: Column, size: int, batch: Batch, centre: int) -> Step:
    """Return how a plane of a column adds up `size` cells of a batch.

    `centre` is the whole number about which squares of floats are kept.
    """
    match what:
        case "filled":
            return _Filled(column, size)
        case "sum":
            return _Summed(column, size)
        case "square":
            return _Squared(column, size, centre)
        case "min" | "max" | "first" | "last":
            return _Picked(column, size, what, batch)
        case "values" | "codes":
            return _Kept(column, size)
        case "rows":
            raise ValueError("rows are counted without a column: use Counted")
        case _:
            assert_never(what)


def _fits(column: Column) -> bool:
    """Return whether any sum of a column's whole parts fits into 64 bits.

    Raises `MeasureError` where a float is infinite.
    """
    data = column.data if column.valid is None else column.data[column.valid]
    if column.kind == "float":
        with np.errstate(over="ignore"):
            total = float(np.nansum(np.abs(data)))
        if np.isinf(total) and np.isinf(data).any():
            row = int(np.flatnonzero(np.isinf(column.data))[0])
            raise MeasureError(
                f"column {column.name!r} cannot be added up: row {row + 1:,} is infinite"
            )
        return total < _ROOM / 2
    largest = exact.most(data)
    if largest * len(data) < _ROOM:
        return True
    return largest < _ROOM and float(np.abs(exact.floats(data)).sum()) < 0.999 * _ROOM
