"""The cells that the rows of a batch lie in."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels.bycell import different, in_cell_order

_NO_DAYS, _NO_SLOTS = np.empty(0, np.int32), np.empty(0, np.int64)


class RowCells:
    """The cell of each row among `size`: slot * width + day - first, where either may be missing.

    With an `order`, the n-th cell is that of row `order[n]`. Where it `is_in_order`, rows of one
    stand side by side.
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
        self.days = _NO_DAYS if days is None else np.ascontiguousarray(days)
        self.slots = _NO_SLOTS if slots is None else np.ascontiguousarray(slots)
        self.first, self.width, self.size, self.order = first, width, size, order
        self.is_in_order = in_order or order is not None

    def occupied(self) -> tuple[Ints, RowCells]:
        """Return the cells that hold rows, and the places of rows among them."""
        rows = np.arange(len(self.days) or len(self.slots), dtype=np.int32)
        cells, order = self._in_order(self.days, self.slots, rows)
        keys, places = different(cells)
        return keys, RowCells(None, places, 0, 1, len(keys), order)

    def occupied_by(self, values: NDArray[Any]) -> tuple[Ints, RowCells, NDArray[Any]]:
        """Return the cells that hold rows, the places of rows among them in order, and the values
        of the rows, which are moved along.
        """
        cells, moved = self._in_order(self.days, self.slots, values)
        keys, places = different(cells)
        return keys, RowCells(None, places, 0, 1, len(keys), in_order=True), moved

    def at(self, rows: Ints) -> Ints:
        """Return the cells of some rows."""
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
        """Return the cells of filled rows in order, and the values of these rows."""
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
        """Return the cells of some rows in order, and what moves with them."""
        return in_cell_order(days, slots, self.first, self.width, moved, self.size)

    @cached_property
    def _place_of_row(self) -> NDArray[np.int32]:
        assert self.order is not None
        places = np.empty_like(self.order)
        places[self.order] = np.arange(len(places), dtype=np.int32)
        return places
