"""Calculations that pick one value: `min`, `max`, `first` and `last`."""

from __future__ import annotations

from abc import abstractmethod
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.picks import Pick
from eptaro.core.folds.planes import Plane
from eptaro.core.kernels import ranges
from eptaro.core.measures.calculation import Calculation
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column


class Picking(Calculation):
    """One of the values, which may be numbers, texts or dates; blank where there is none."""

    needs_numbers = False

    @abstractmethod
    def picked(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the value of each range of values; of an empty range any."""

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value of each range."""
        tally, first, last = cells.items(Plane(self.kept[0], term.column), lo, hi)
        filled = last > first
        if isinstance(tally, Pick) and tally.shared is not None and len(tally.shared):
            # Of a time that several groups share, only the order of the input would decide.
            filled = filled & ~self.picked(tally.shared, first, last)
        values = self.picked(tally.value, first, last)
        choices = tally.choices if isinstance(tally, Pick) else None
        return Column.of("", tally.kind, values, filled, scale=tally.scale, choices=choices)

    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value of each range."""
        values = self.picked(items.data, lo, hi)
        more = {"scale": items.scale, "choices": items.choices}
        return Column.of("", items.kind, values, hi > lo, **more)


class _Extreme(Picking):
    largest: ClassVar[bool]

    def picked(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the least or the largest value of each range."""
        return ranges.extremes(values, lo, hi, largest=self.largest)


class Least(_Extreme):
    """The least value: of numbers, of texts by their letters, or of dates."""

    name, kept, largest = "min", ("min",), False


class Largest(_Extreme):
    """The largest value: of numbers, of texts by their letters, or of dates."""

    name, kept, largest = "max", ("max",), True


class First(Picking):
    """The first value by time, then by the order of the input: a number, a text or a date."""

    name, kept = "first", ("first",)

    def picked(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the first value of each range."""
        return _at(values, np.where(hi > lo, lo, 0))


class Last(Picking):
    """The last value by time, then by the order of the input: a closing balance, or how something
    stands.
    """

    name, kept = "last", ("last",)

    def picked(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the last value of each range."""
        return _at(values, np.where(hi > lo, hi - 1, 0))


def _at(values: NDArray[Any], place: Ints) -> NDArray[Any]:
    return values[place] if len(values) else np.zeros(len(place), values.dtype)
