"""`Sum`: what is added up in each cell, exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.adding import Array, added, added_together, running
from eptaro.core.kernels.chosen import between, between_floats
from eptaro.core.kernels.sidebyside import at_once, in_slices
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column, Kind

_ROOM = float(2**63)
_MANY = 1 << 18  # cells, for which a second thread pays


@dataclass(frozen=True, eq=False)
class Sum:
    """Sums per cell: a whole part, exact at any size (see `core.tables.exact`), and for floats a
    rest.

    Each float is split into its nearest whole number and what is left, so that cents
    survive any turnover. Decimals count units of 10**-scale.
    """

    whole: Array
    rest: NDArray[np.float64] | None = None
    kind: Kind = "integer"
    scale: int = 0

    @classmethod
    def of(cls, values: Array, kind: Kind, scale: int = 0) -> Sum:
        """Return values, one per cell, ready to be added up; floats must be finite."""
        if kind != "float":
            return cls(exact.added_up(values), None, kind, scale)
        if values.dtype == object:
            whole, rest = exact.parted(values)
            return cls(exact.added_up(whole), rest, "float")
        nearest = np.rint(values)
        huge = bool((np.abs(nearest) >= _ROOM).any())
        whole = exact.wide(nearest) if huge else nearest.astype(np.int64)
        return cls(exact.added_up(whole), values - nearest, "float")

    def moved(self, target: Ints, size: int) -> Sum:
        """Return the sums on other cells."""
        rest = None if self.rest is None else added(self.rest, target, size)
        return Sum(added(self.whole, target, size), rest, self.kind, self.scale)

    def between(self, lo: int, hi: int) -> Sum:
        """Return the sums of the cells `lo` to below `hi`."""
        rest = None if self.rest is None else self.rest[lo:hi]
        return replace(self, whole=self.whole[lo:hi], rest=rest)

    def plus(self, other: Sum) -> Sum:
        """Return the sums of both, which are of the same cells."""
        return Sum.together([self, other], [None, None], len(self.whole))

    @staticmethod
    def together(parts: Sequence[Sum], onto: Sequence[Ints | None], size: int) -> Sum:
        """Return the sums of several parts on `size` cells; `onto` names those that each part's
        go to, None where it has them already. Scales and kinds are brought together.
        """
        widest = parts[0]
        for part in parts[1:]:
            widest = widest.like(part)
        parts = [part.like(widest) for part in parts]
        whole = [part.whole for part in parts]
        if not exact.sure(*whole):
            whole = [exact.wide(part) for part in whole]
        rest = [part.rest for part in parts if part.rest is not None]
        return Sum(
            added_together(whole, onto, size),
            added_together(rest, onto, size) if rest else None,
            widest.kind,
            widest.scale,
        )

    def like(self, other: Sum) -> Sum:
        """Return the same sums in the wider of both kinds: integer, decimal, float."""
        if other.rest is not None and self.rest is None:
            unit = 10**self.scale
            whole = self.whole // unit  # of Python integers there is no divmod
            return Sum(whole, exact.floats(self.whole - whole * unit) / unit, "float")
        if self.rest is not None or other.scale <= self.scale:
            return self
        units = exact.times(self.whole, 10 ** (other.scale - self.scale))
        return Sum(exact.added_up(units), None, other.kind, other.scale)

    def prefix(self) -> RunningSum:
        """Return running sums with a leading zero, so that a range is one subtraction."""
        parts = [self.whole, *([] if self.rest is None else [self.rest])]
        if len(self.whole) < _MANY:
            whole, *rest = map(running, parts)
        else:
            whole, *rest = at_once([partial(running, part) for part in parts])
        return RunningSum(whole, rest[0] if rest else None, self.kind, self.scale)


@dataclass(frozen=True, eq=False)
class RunningSum:
    """Running sums of cells with a leading zero; never added up themselves.

    Entry i is the sum of the cells before cell i, so there is one entry more than cells.
    """

    whole: Array
    rest: NDArray[np.float64] | None
    kind: Kind
    scale: int

    def between(self, lo: Ints, hi: Ints) -> Column:
        """Return the sums of half-open ranges lo..hi of cells."""
        if self.whole.dtype != object:
            return self._between(lo, hi)
        whole = exact.narrow(self.whole[hi] - self.whole[lo])
        if self.rest is None:
            return Column.of("", self.kind, whole, scale=self.scale)
        if whole.dtype != object:
            return Column.of("", "float", whole + (self.rest[hi] - self.rest[lo]))
        about = exact.floats(whole)
        found = about + (self.rest[hi] - self.rest[lo])
        beyond = np.isinf(about)  # what does not fit into a float is told where it is shown
        return Column.of("", "float", np.where(beyond, whole, found) if beyond.any() else found)

    def _between(self, lo: Ints, hi: Ints) -> Column:
        lo, hi = np.ascontiguousarray(lo, np.int64), np.ascontiguousarray(hi, np.int64)
        if self.rest is None:
            found = np.empty(len(lo), np.int64)
            in_slices(lambda of: between(self.whole, lo[of], hi[of], found[of]), len(lo))
            return Column.of("", self.kind, found, scale=self.scale)
        rest, floats = self.rest, np.empty(len(lo))
        in_slices(lambda of: between_floats(self.whole, rest, lo[of], hi[of], floats[of]), len(lo))
        return Column.of("", "float", floats)
