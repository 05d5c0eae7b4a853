"""The fold: transactions to cells, batch by batch, in array operations over chunks of rows.

`Fold` takes any number of batches and forgets each when it is folded; what it keeps is
cells. Batches may come in any order and of any size: the outcome is the same.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from eptaro.core.aggregation.axis import MOST_DENSE, Axis
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import ROWS, Cells, Plane, concatenate_cells
from eptaro.core.aggregation.encoding import CategoryEncoder, GroupEncoder, Slots
from eptaro.core.aggregation.groups import Groups
from eptaro.core.aggregation.rows import (
    Counted,
    RowCellIndex,
    Step,
    run_steps,
    sole_values,
    step_of,
)
from eptaro.core.calendars.days import Ints
from eptaro.core.results.column import Column
from eptaro.errors import InputError

_SPARSE_TOGETHER = 8  # parts, each move of which writes all their cells anew


class Fold:
    """Cells in the making.

    `limit` is the most bytes of memory that cells may take; beyond, they go to temporary files.
    Raises `MeasureError` where an infinite value is summed, `InputError` where there is no room
    for these files.
    """

    def __init__(
        self, by: Iterable[str], planes: Iterable[Plane], *, limit: int | None = None
    ) -> None:
        self.planes = sorted({ROWS, *planes})
        self.rows = 0
        self._combiner = GroupEncoder(list(by))
        self._encoders = {
            p.column: CategoryEncoder(p.column, words=True)
            for p in self.planes
            if p.what == "codes"
        }
        self._centres: dict[str, int] = {}
        self._parts: list[Cells] = []
        self._limit = limit

    def add(self, batch: Batch) -> None:
        """Fold a batch."""
        if not len(batch):
            return
        slots = self._combiner.slots(batch.groups)
        self._parts.append(self._fold_batch(batch, slots))
        self._join()
        self.rows += len(batch)
        if self._limit is not None and self.memory > self._limit:
            # What is made of arrays on disk lies there too.
            self._parts = [part.on_disk() for part in self._parts]

    @property
    def memory(self) -> int:
        """The bytes of memory that the cells take."""
        return sum(part.memory for part in self._parts)

    def result(self) -> tuple[Groups, Cells]:
        """Return the groups in natural order, and their cells."""
        cells = self._cells()
        groups, rank = self._combiner.ranked_groups()
        if not np.array_equal(rank, np.arange(groups.count)):
            cells = cells.regroup(rank, groups.count)
        return _drop_empty_groups(groups, cells)

    def in_order_met(self) -> tuple[Groups, Cells]:
        """Return the groups in any order, and their cells."""
        return _drop_empty_groups(self._combiner.groups(), self._cells())

    def _cells(self) -> Cells:
        if not self._parts:
            raise InputError("there are no rows to fold")
        self._parts = [concatenate_cells(self._parts)]
        return self._parts[0]

    def _join(self) -> None:
        """Join the last parts that are of like size: two dense ones, or several sparse ones, so
        that no cell is moved more often than the logarithm of the number of batches.
        """
        sizes = [part.axis.size for part in self._parts]
        alike = 1
        while alike < len(sizes) and 2 * sizes[-alike] >= sizes[-alike - 1]:
            alike += 1
        sparse = self._parts[-1].axis.keys is not None
        if alike >= (_SPARSE_TOGETHER if sparse else 2):
            self._parts[-alike:] = [concatenate_cells(self._parts[-alike:])]

    def distinct_values(self) -> dict[str, Column]:
        """Return, per column that distinct values are counted of, what its codes represent."""
        return {name: encoder.to_categorical().choices for name, encoder in self._encoders.items()}

    def _fold_batch(self, batch: Batch, slots: Slots | None) -> Cells:
        first, last = batch.ends
        count = len(self._combiner)
        if self._parts and self._parts[-1].axis.keys is None:
            # The days of the part before as well: parts of one axis join without being moved.
            before = self._parts[-1].axis
            most, least = max(last, before.last_day), min(first, before.first_day)
            if count * (most - least + 1) <= len(batch):
                first, last = least, most
        days = last - first + 1
        group, least = slots or (None, 0)
        cells_of = RowCellIndex(batch.days, group, first + least * days, days, count * days)
        keys: Ints | None = None
        steps = [self._step(plane, batch) for plane in self.planes]
        if cells_of.size > min(MOST_DENSE, 4 * len(batch) + (1 << 20)):
            sole = sole_values(steps)
            if sole is not None and sole.values is not None:
                keys, cells_of, values = cells_of.occupied_cells_by(sole.values)
                steps = [step if step is not sole else step.move(values) for step in steps]
            else:
                keys, cells_of = cells_of.occupied_cells()
        axis = Axis(count, first, days, keys)
        tallies = run_steps(steps, cells_of, batch)
        return Cells(axis, dict(zip(self.planes, tallies, strict=True)))

    def _step(self, plane: Plane, batch: Batch) -> Step:
        """Return how a plane of a batch is folded."""
        if plane == ROWS:
            return Counted()
        column, centre = batch.values.get(plane.column), 0
        if plane.what == "codes":
            coded = batch.distinct[plane.column]
            codes = self._encoders[plane.column].encode(coded)
            column = Column.of(plane.column, "integer", codes, coded.codes >= 0)
        assert column is not None
        if plane.what == "square" and column.kind == "float":
            centre = self._centre(column)
        return step_of(plane.what, column, batch, centre)

    def _centre(self, column: Column) -> int:
        """Return the whole number that a float column's squares are kept about."""
        if column.name not in self._centres:
            values = column.data[~np.isnan(column.data)]
            with np.errstate(over="ignore", invalid="ignore"):
                middle = float(np.mean(values)) if len(values) else 0.0
            self._centres[column.name] = int(np.rint(middle)) if abs(middle) < 2**53 else 0
        return self._centres[column.name]


def _drop_empty_groups(groups: Groups, cells: Cells) -> tuple[Groups, Cells]:
    """Return the groups that have rows: an unused word of a dictionary, or a condition that none of
    its rows meets, makes no group.
    """
    filled = cells.groups_with_rows()
    if filled.all():
        return groups, cells
    target = np.where(filled, np.cumsum(filled) - 1, -1)
    places = np.flatnonzero(filled)
    return groups.at(places).drop_unused(), cells.regroup(target, len(places))
