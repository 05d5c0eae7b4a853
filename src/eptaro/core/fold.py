"""The fold: transactions to cells, in one pass of array operations per chunk of rows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.cells import Cells, Tally
from eptaro.core.column import Column
from eptaro.core.days import Ints, as_date
from eptaro.core.errors import InputError, MeasureError
from eptaro.core.groups import Coded, Groups
from eptaro.core.measures import Plane

CHUNK = 1 << 18  # rows per step: the temporaries stay in the processor's cache
MAX_CELLS = 1 << 26  # 512 MiB per plane
_ROOM = 2**63  # one past the largest total that int64 holds


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
    groups, codes = _combine(batch.groups, len(batch))
    if groups.count * days > MAX_CELLS:
        raise InputError(
            f"{groups.count:,} groups over {days:,} days ({as_date(first)} to "
            f"{as_date(first + days - 1)}) make {groups.count * days:,} cells, more than the "
            f"{MAX_CELLS:,} that fit; group by fewer columns, or look for a date far off the rest"
        )
    wanted = {Plane("rows"), *planes}
    steps = {plane: _Step(plane, batch.values.get(plane.column)) for plane in wanted}
    tallies = {plane: step.empty(groups.count * days) for plane, step in steps.items()}
    for start in range(0, len(batch), CHUNK):
        rows = slice(start, start + CHUNK)
        cell = batch.days[rows].astype(np.intp)
        cell -= first
        if codes is not None:
            cell += codes[rows].astype(np.intp) * days
        for plane, step in steps.items():
            step.add(cell, rows, tallies[plane])
    return groups, Cells(first, days, groups.count, tallies)


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


def _combine(coded: Mapping[str, Coded], rows: int) -> tuple[Groups, NDArray[Any] | None]:
    """Return the combinations that occur and, for each row, the place of its own.

    The place is None where there is nothing to group by.
    """
    if not coded:
        return Groups({}, 1), None
    columns = list(coded.values())
    sizes = [len(column.ranks) for column in columns]
    total = int(np.prod(np.array(sizes, object)))
    if total >= _ROOM:
        raise InputError(f"{len(columns)} group columns have more combinations than can be counted")
    if len(columns) == 1:
        ranked = columns[0].ranks.astype(np.int32)[columns[0].codes]
    else:
        ranked = np.zeros(rows, np.int64)
        for column, size in zip(columns, sizes, strict=True):
            ranked *= size
            ranked += column.ranks[column.codes]
    places: NDArray[Any] = ranked
    if total <= max(1 << 16, rows):
        seen = np.bincount(ranked, minlength=total) > 0
        present = np.flatnonzero(seen)
        if len(present) < total:
            places = (np.cumsum(seen) - 1).astype(np.int32)[ranked]
    else:
        present, places = np.unique(ranked, return_inverse=True)
    digits = np.unravel_index(present, sizes)
    kept = {
        name: Coded(_unranked(column)[digit].astype(np.int32), column.choices)
        for (name, column), digit in zip(coded.items(), digits, strict=True)
    }
    return Groups(kept, len(present)), places


def _unranked(column: Coded) -> Ints:
    """Return the code that stands at each rank; the last rank is the blank."""
    order = np.argsort(column.ranks)
    return np.where(order == len(order) - 1, -1, order)
