"""The fold: transactions to cells, batch by batch, in array operations over chunks of rows.

`Fold` takes any number of batches and forgets each when it is folded; what it keeps is
cells. Batches may come in any order and of any size: the outcome is the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core import exact
from eptaro.core.axis import MOST_DENSE, Axis
from eptaro.core.cells import Cells, Tally
from eptaro.core.column import Column
from eptaro.core.days import Ints
from eptaro.core.errors import InputError, MeasureError
from eptaro.core.groups import Coded, Combiner, Encoder, Groups
from eptaro.core.measures import Plane
from eptaro.core.squares import Squares, Squaring
from eptaro.core.tallies import Entries, Pick, Sum

CHUNK = 1 << 16  # rows per step: the temporaries stay in the processor's cache
_ROOM = exact.ROOM
_HALF = 32
_ROWS = Plane("rows")


@dataclass(frozen=True, eq=False)
class Batch:
    """Transactions as arrays of one length: days, coded groups and measured columns.

    `times` are nanoseconds since the day's midnight, where these are known, and over 24 hours
    where a day starts late; `first_row` is the place of the first in the whole input.
    """

    days: NDArray[np.int32]
    groups: Mapping[str, Coded]
    values: Mapping[str, Column]
    distinct: Mapping[str, Coded] = field(default_factory=dict)
    times: Ints | None = None
    first_row: int = 0

    def __len__(self) -> int:
        return len(self.days)

    def days_of(self, rows: slice) -> Batch:
        """Return the days and times of some transactions, without what they measure."""
        times = None if self.times is None else self.times[rows]
        return Batch(self.days[rows], {}, {}, {}, times)


class Fold:
    """Cells in the making.

    `limit` is the most bytes that cells may take. Raises `MeasureError` where an infinite
    value is summed, `InputError` where the cells would not fit into the limit.
    """

    def __init__(
        self, by: Iterable[str], planes: Iterable[Plane], *, limit: int | None = None
    ) -> None:
        self.planes = sorted({_ROWS, *planes})
        self.rows = 0
        self._combiner = Combiner(list(by))
        self._encoders = {p.column: Encoder(p.column) for p in self.planes if p.what == "codes"}
        self._centres: dict[str, int] = {}
        self._parts: list[Cells] = []
        self._limit = limit

    def add(self, batch: Batch) -> None:
        """Fold a batch."""
        if not len(batch):
            return
        slots = self._combiner.number(batch.groups)
        self._parts.append(self._folded(batch, slots))
        # Parts of like size join, so that no cell is moved more often than log2(batches) times.
        while len(self._parts) > 1 and 2 * self._parts[-1].axis.size >= self._parts[-2].axis.size:
            last = self._parts.pop()
            self._parts[-1] = self._parts[-1].plus(last)
        self.rows += len(batch)
        memory = sum(part.memory for part in self._parts)
        if self._limit is not None and memory > self._limit:
            raise InputError(
                f"after {self.rows:,} rows the cells take {memory >> 20:,} MiB, more "
                f"than the limit of {self._limit >> 20:,}; group by fewer columns, leave out "
                f"distinct and quantile measures, or raise the limit"
            )

    def result(self) -> tuple[Groups, Cells]:
        """Return the groups in natural order, and their cells."""
        if not self._parts:
            raise InputError("there are no rows to fold")
        while len(self._parts) > 1:
            last = self._parts.pop()
            self._parts[-1] = self._parts[-1].plus(last)
        cells = self._parts[0]
        groups = self._combiner.groups()
        order = groups.order()
        if np.array_equal(order, np.arange(groups.count)):
            return groups, cells
        target = np.empty(groups.count, np.int64)
        target[order] = np.arange(groups.count)
        return groups.at(order), cells.regrouped(target, groups.count)

    def distinct_values(self) -> dict[str, Column]:
        """Return, per column that distinct values are counted of, what its codes stand for."""
        return {name: encoder.coded().choices for name, encoder in self._encoders.items()}

    def _folded(self, batch: Batch, slots: NDArray[Any] | None) -> Cells:
        first = int(batch.days.min())
        days = int(batch.days.max()) - first + 1
        count = len(self._combiner)
        cell_of = _Places(batch.days, slots, first, days)
        keys: Ints | None = None
        if count * days > min(MOST_DENSE, 4 * len(batch) + (1 << 20)):
            keys, places = np.unique(cell_of.all(), return_inverse=True)
            cell_of = _Places.known(places)
        axis = Axis(count, first, days, keys)
        steps = [_step(self, plane, batch, axis.size) for plane in self.planes]
        for start in range(0, len(batch), CHUNK):
            rows = slice(start, start + CHUNK)
            cell = cell_of.at(rows)
            for step in steps:
                step.add(cell, rows)
        return Cells(axis, {plane: s.tally() for plane, s in zip(self.planes, steps, strict=True)})

    def encoded(self, coded: Coded, column: str) -> NDArray[np.int32]:
        """Return the numbers of a distinct column's values."""
        return self._encoders[column].encode(coded)

    def centre(self, column: Column) -> int:
        """Return the whole number that a float column's squares are kept about."""
        if column.name not in self._centres:
            values = column.data[~np.isnan(column.data)]
            with np.errstate(over="ignore", invalid="ignore"):
                middle = float(np.mean(values)) if len(values) else 0.0
            self._centres[column.name] = int(np.rint(middle)) if abs(middle) < 2**53 else 0
        return self._centres[column.name]


class _Places:
    """The cell of each row, worked out chunk by chunk or known."""

    def __init__(self, days: Any, slots: Any, first: int, width: int) -> None:
        self._days, self._slots, self._first, self._width = days, slots, first, width
        self._known: Ints | None = None

    @classmethod
    def known(cls, places: Ints) -> _Places:
        made = cls(None, None, 0, 0)
        made._known = places
        return made

    def at(self, rows: slice) -> Ints:
        if self._known is not None:
            return self._known[rows]
        if self._slots is None:
            return self._days[rows].astype(np.int64) - self._first  # type: ignore[no-any-return]
        cell: Ints = self._slots[rows].astype(np.int64)
        cell *= self._width
        cell += self._days[rows]
        cell -= self._first
        return cell

    def all(self) -> Ints:
        return self.at(slice(None))


class _Step:
    """How one plane adds chunks of rows to its cells."""

    def __init__(self, column: Column | None, size: int) -> None:
        self._column, self._size = column, size

    def add(self, cell: Ints, rows: slice) -> None:
        raise NotImplementedError

    def tally(self) -> Tally:
        raise NotImplementedError

    def _filled(self, cell: Ints, rows: slice) -> tuple[Ints, NDArray[Any], Any]:
        """Return cell, value and place (a slice or flags) of the rows that are not blank."""
        column = self._column
        assert column is not None
        data, valid = column.data[rows], column.filled(rows)
        if valid is None:
            return cell, data, slice(None)
        return cell[valid], data[valid], valid


class _Rows(_Step):
    def __init__(self, size: int) -> None:
        super().__init__(None, size)
        self._whole = np.zeros(size, np.int64)

    def add(self, cell: Ints, rows: slice) -> None:
        np.add.at(self._whole, cell, 1)

    def tally(self) -> Sum:
        return Sum(self._whole)


class _Filled(_Rows):
    def __init__(self, column: Column, size: int) -> None:
        super().__init__(size)
        self._column = column

    def add(self, cell: Ints, rows: slice) -> None:
        np.add.at(self._whole, self._filled(cell, rows)[0], 1)


class _Summed(_Step):
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


class _Squared(_Step):
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


class _Collected(_Step):
    """Keeps the filled rows of all chunks, to be picked from or kept at the end."""

    def __init__(self, column: Column, size: int, what: str, batch: Batch) -> None:
        super().__init__(column, size)
        self._what, self._batch = what, batch
        self._parts: list[tuple[Ints, NDArray[Any], Ints]] = []

    def add(self, cell: Ints, rows: slice) -> None:
        start, count = rows.start, len(cell)
        cell, data, filled = self._filled(cell, rows)
        cell = cell.astype(np.int32) if self._size < 1 << 31 else cell
        if self._what in ("values", "codes"):
            self._parts.append((cell, data, cell[:0]))
        else:
            self._parts.append((cell, data, np.arange(start, start + count)[filled]))

    def tally(self) -> Tally:
        column, what = self._column, self._what
        assert column is not None
        cell, value, row = (np.concatenate(part) for part in zip(*self._parts, strict=True))
        self._parts = []
        kind = column.kind
        if what in ("values", "codes"):
            return Entries.of(cell, value, kind, column.scale)
        times = self._batch.times
        time = np.zeros(len(row), np.int64) if times is None else times[row]
        row = row + self._batch.first_row
        assert what in ("min", "max", "first", "last")
        return Pick.among(what, cell, value, time, row, self._size, kind, column.scale)  # type: ignore[arg-type]


def _step(fold: Fold, plane: Plane, batch: Batch, size: int) -> _Step:
    if plane.what == "rows":
        return _Rows(size)
    if plane.what == "codes":
        coded = batch.distinct[plane.column]
        codes = fold.encoded(coded, plane.column)
        column = Column.of(plane.column, "integer", codes, coded.codes >= 0)
        return _Collected(column, size, "codes", batch)
    column = batch.values[plane.column]
    match plane.what:
        case "filled":
            return _Filled(column, size)
        case "sum":
            return _Summed(column, size)
        case "square":
            return _Squared(column, size, fold.centre(column) if column.kind == "float" else 0)
        case _:
            return _Collected(column, size, plane.what, batch)


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
