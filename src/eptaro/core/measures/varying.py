"""Calculations of how much values vary: `var` and its root, `std`."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.planes import Plane
from eptaro.core.folds.squares import RunningSquares, Squares
from eptaro.core.folds.sums import RunningSum, Sum
from eptaro.core.measures.calculation import Calculation, Unit
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column


class Variance(Calculation):
    """The variance, divided by n-1; blank where there are fewer than two values."""

    name = "var"
    kept = ("sum", "square", "filled")
    unit: ClassVar[Unit] = "of the column, squared"
    root: ClassVar[bool] = False

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the variance of each range, or its root."""
        counts = cells.sums(Plane("filled", term.column), lo, hi).data
        sums = cells.running_sum(Plane("sum", term.column))
        return self._column(
            cells.running_squares(Plane("square", term.column)), sums, counts, lo, hi
        )

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the variance of each range, or its root."""
        sums = Sum.of(items.data, items.kind, items.scale).prefix()
        squares = Squares.of(items.data, items.kind, items.scale).prefix()
        return self._column(squares, sums, hi - lo, lo, hi)

    def _column(
        self, squares: RunningSquares, sums: RunningSum, counts: Ints, lo: Ints, hi: Ints
    ) -> Column:
        found = squares.variance(sums, counts, lo, hi, root=self.root)
        return Column.of("", "float", found, (counts > 1) & np.isfinite(found))


class Deviation(Variance):
    """The standard deviation: the root of the variance."""

    name = "std"
    unit = "of the column"
    root = True
