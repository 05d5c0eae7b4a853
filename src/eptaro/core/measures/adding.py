"""Calculations that add up: `sum`, `count` and, of the two, `mean`."""

from __future__ import annotations

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.planes import ROWS, Plane
from eptaro.core.folds.sums import Sum
from eptaro.core.measures.calculation import Calculation
from eptaro.core.measures.ratio import ratio
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column


class Adding(Calculation):
    """The values added up: 0 where there is no row, blank where there are some and all of them
    lack a value.
    """

    name = "sum"
    kept = ("sum", "filled")
    adds_up = True
    counts_rows = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the sum of each range."""
        found = cells.sums(Plane("sum", term.column), lo, hi)
        filled = Plane("filled", term.column)
        rows = ROWS if term.met is None else Plane("filled", term.met.name)
        if cells.tallies[filled] is cells.tallies[rows]:  # every row has a value
            return found
        lacking = (cells.sums(filled, lo, hi).data == 0) & (cells.sums(rows, lo, hi).data > 0)
        return found.blanked(~lacking) if lacking.any() else found

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the sum of each range; values may be wide (see `core.tables.exact`)."""
        return Sum.of(items.data, items.kind, items.scale).prefix().between(lo, hi)


class Counting(Calculation):
    """How many values there are; without a column, how many transactions."""

    name = "count"
    kept = ("filled",)
    unit = "transactions"
    adds_up = True
    needs_column = False
    needs_numbers = False

    def adding(self, column: str) -> Plane:
        """Return the plane of which it is the sum."""
        return super().adding(column) if column else ROWS

    def planes(self, column: str) -> set[Plane]:
        """Return what the fold must keep: of no column, the number of rows."""
        return super().planes(column) if column else {ROWS}

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many there are in each range."""
        return cells.sums(Plane("filled", term.column) if term.column else ROWS, lo, hi)

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how long each range is."""
        return Column.of("", "integer", hi - lo)


class Averaging(Calculation):
    """The sum over the number of values; blank where there is none."""

    name = "mean"
    kept = ("sum", "filled")

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the mean of each range."""
        total = cells.sums(Plane("sum", term.column), lo, hi)
        return ratio(total, cells.sums(Plane("filled", term.column), lo, hi))

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the mean of each range."""
        total = Sum.of(items.data, items.kind, items.scale).prefix().between(lo, hi)
        return ratio(total, Column.of("", "integer", hi - lo))
