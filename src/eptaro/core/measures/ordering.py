"""Calculations that need every value: `median`, `quantile`, `distinct` and `new`."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.planes import Plane
from eptaro.core.kernels import ranges
from eptaro.core.measures.calculation import Calculation
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column
from eptaro.errors import MeasureError


class Quantile(Calculation):
    """The value that a share of the values lie below, interpolated linearly; blank where there
    is none.
    """

    name = "quantile"
    kept = ("values",)
    takes_share = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the quantile of each range."""
        tally, first, last = cells.items(Plane("values", term.column), lo, hi)
        return self._column(tally.value, tally.scale, term, first, last)

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the quantile of each range."""
        return self._column(items.data, items.scale, term, lo, hi)

    def _column(self, values: NDArray[Any], scale: int, term: Term, lo: Ints, hi: Ints) -> Column:
        found = ranges.quantile(values, lo, hi, term.share) / 10.0**scale
        return Column.of("", "float", found, (hi > lo) & ~np.isnan(found))


class Median(Quantile):
    """The middle value; of an even number, the mean of the middle two."""

    name = "median"
    takes_share = False  # a term without a share has that of the median, 0.5


class Distinct(Calculation):
    """How many different values there are."""

    name = "distinct"
    kept = ("codes",)
    unit = "different values"
    needs_numbers = False

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many different values each range holds."""
        tally, first, last = cells.items(Plane("codes", term.column), lo, hi)
        return Column.of("", "integer", ranges.distinct(tally.value, first, last))

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many different values each range holds."""
        return Column.of("", "integer", ranges.distinct(items.data, lo, hi))


class New(Calculation):
    """How many values there are that the group never had before."""

    name = "new"
    kept = ("codes",)
    unit = "values never seen before"
    needs_numbers = False
    looks_back = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many values each range holds that no earlier cell of its group has."""
        found = cells.first_times(Plane("codes", term.column), lo, hi)
        return Column.of("", "integer", found)

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Raise `MeasureError`: totals of a finer grain are no values that come again."""
        raise MeasureError(f"{term}: new() counts values of a column, not totals of a {term.grain}")
