"""Cells: transactions folded to one entry per group, day and plane."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.axis import Axis
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.planes import Plane
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.kernels.adding import running
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column

Tally = Sum | Squares | Pick | Entries


@dataclass(frozen=True, eq=False)
class Cells:
    """All planes over one axis of groups and days."""

    axis: Axis
    tallies: Mapping[Plane, Tally]

    def regrouped(self, target: Ints, count: int) -> Cells:
        """Return the cells with group i renumbered to `target[i]`; groups may meet, -1 leaves."""
        axis, places = self.axis.regrouped(target, count)
        kept = target[target >= 0]
        owner = self.axis.cells_of()[0] if len(np.unique(kept)) < len(kept) else None
        return Cells(
            axis,
            {
                plane: tally.spread(places, axis.size, owner)
                if isinstance(tally, Pick)
                else tally.spread(places, axis.size)
                for plane, tally in self.tallies.items()
            },
        )

    def plus(self, other: Cells) -> Cells:
        """Return the cells of both; groups are numbered alike in both."""
        axis = self.axis.covering(other.axis)
        sides = []
        for side in (self, other):
            if axis is side.axis:
                sides.append(side.tallies)
                continue
            places = side.axis.onto(axis)
            sides.append({p: t.spread(places, axis.size) for p, t in side.tallies.items()})
        mine, theirs = sides
        joined: dict[Plane, Any] = {}
        for plane, tally in mine.items():
            added: Any = theirs[plane]
            if isinstance(tally, Squares):
                own = (theirs[Plane(what, plane.column)] for what in ("sum", "filled"))
                added = added.about(tally, *own)
            joined[plane] = tally.plus(added)
        return Cells(axis, joined)

    def check(self) -> None:
        """Raise `ValueError` unless every plane has the axis's cells and none is out of order."""
        for plane, tally in self.tallies.items():
            if isinstance(tally, Sum | Squares):
                fits = len(tally.whole) == self.axis.size
            else:
                ordered = (np.diff(tally.cell) >= 0).all()
                fits = bool(ordered and (tally.cell < self.axis.size).all())
            if not fits:
                raise ValueError(f"plane {plane} does not fit its axis")

    @property
    def memory(self) -> int:
        """The bytes that all planes take."""
        arrays = [part for tally in self.tallies.values() for part in vars(tally).values()]
        arrays.append(self.axis.keys)
        return sum(part.nbytes for part in arrays if isinstance(part, np.ndarray))

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs, without running sums."""
        return {"axis": self.axis, "tallies": self.tallies}

    # ---- questions --------------------------------------------------------------

    @cached_property
    def _prefixes(self) -> dict[Plane, Any]:
        return {}

    def sums(self, plane: Plane, lo: Ints, hi: Ints) -> Column:
        """Return a summed plane's totals over ranges of cells."""
        if plane not in self._prefixes:
            tally = self.tallies[plane]
            assert isinstance(tally, Sum)
            self._prefixes[plane] = tally.prefix()
        found: Column = self._prefixes[plane].between(lo, hi)
        return found

    def squares(self, column: str, lo: Ints, hi: Ints) -> tuple[Squares, Sum, Ints]:
        """Return running sums of a column's squares and values, and how many values ranges hold."""
        plane = Plane("square", column)
        counts: Ints = self.sums(Plane("filled", column), lo, hi).data
        self.sums(Plane("sum", column), lo, hi)
        if plane not in self._prefixes:
            tally = self.tallies[plane]
            assert isinstance(tally, Squares)
            self._prefixes[plane] = tally.prefix()
        return self._prefixes[plane], self._prefixes[Plane("sum", column)], counts

    def items(self, plane: Plane, lo: Ints, hi: Ints) -> tuple[Pick | Entries, Ints, Ints]:
        """Return a plane of values, and the ranges of its items that ranges of cells hold."""
        tally = self.tallies[plane]
        assert isinstance(tally, Pick | Entries)
        if plane not in self._prefixes:
            self._prefixes[plane] = running(np.bincount(tally.cell, minlength=self.axis.size))
        counts = self._prefixes[plane]
        return tally, counts[lo], counts[hi]

    def total(self, plane: Plane, first: int, last: int) -> int:
        """Return a plane's exact whole total over days first..last, without prefix sums."""
        tally = self.tallies[plane]
        assert isinstance(tally, Sum)
        if self.axis.keys is None:
            rows = tally.whole.reshape(self.axis.groups, self.axis.days)
            cut = slice(max(first - self.axis.first_day, 0), max(last + 1 - self.axis.first_day, 0))
            return exact.total(rows[:, cut].ravel())
        _, day = self.axis.cells_of()
        return exact.total(tally.whole[(day >= first) & (day <= last)])
