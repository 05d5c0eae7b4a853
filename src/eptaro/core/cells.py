"""Cells: transactions folded to one number per group, day and plane.

A plane (a count, or the sum of a column) is held flat: cell = group * days + day. Sums
have a whole part in int64, which is exact, and for floating columns a rest: each float is
split into its nearest whole number and what is left, so that cents survive any turnover.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Column, Kind
from eptaro.core.days import Ints
from eptaro.core.measures import Plane


@dataclass(frozen=True, eq=False)
class Tally:
    """The cells of one plane, or its prefix sums."""

    whole: Ints
    rest: NDArray[np.float64] | None = None
    kind: Kind = "integer"
    scale: int = 0

    def gathered(self, places: Ints, count: int) -> Tally:
        """Return the tally with rows of cells added together: row i goes to `places[i]`."""

        def gather(cells: NDArray[np.generic]) -> NDArray[np.generic]:
            rows = cells.reshape(len(places), -1)
            out = np.zeros((count, rows.shape[1]), cells.dtype)
            np.add.at(out, places, rows)
            return out.ravel()

        rest = None if self.rest is None else gather(self.rest)
        return Tally(gather(self.whole), rest, self.kind, self.scale)  # type: ignore[arg-type]

    def prefix(self) -> Tally:
        """Return running sums with a leading zero, so that a span is one subtraction.

        Whole parts may wrap around in between: differences are exact modulo 2**64, and
        the fold has made sure that no true total is that large.
        """

        def run(cells: NDArray[np.generic]) -> NDArray[np.generic]:
            out = np.zeros(len(cells) + 1, cells.dtype)
            np.cumsum(cells, out=out[1:])
            return out

        rest = None if self.rest is None else run(self.rest)
        return Tally(run(self.whole), rest, self.kind, self.scale)  # type: ignore[arg-type]

    def between(self, lo: Ints, hi: Ints, name: str = "") -> Column:
        """Return the sums of cells lo..hi-1 of a prefix tally as a column."""
        whole = self.whole[hi] - self.whole[lo]
        if self.rest is None:
            return Column.of(name, self.kind, whole, scale=self.scale)
        return Column.of(name, "float", whole + (self.rest[hi] - self.rest[lo]))


@dataclass(frozen=True, eq=False)
class Cells:
    """All planes over the same groups and days."""

    first_day: int
    days: int
    groups: int
    tallies: Mapping[Plane, Tally]

    def gathered(self, places: Ints, count: int) -> Cells:
        """Return cells with groups added together: group i goes to `places[i]`."""
        tallies = {plane: tally.gathered(places, count) for plane, tally in self.tallies.items()}
        return Cells(self.first_day, self.days, count, tallies)

    def picked(self, groups: Sequence[int] | NDArray[np.generic]) -> Cells:
        """Return the cells of some groups only, in the given order."""
        places = np.asarray(groups, np.int64)
        at = (places[:, None] * self.days + np.arange(self.days)).ravel()
        tallies = {
            plane: Tally(t.whole[at], None if t.rest is None else t.rest[at], t.kind, t.scale)
            for plane, t in self.tallies.items()
        }
        return Cells(self.first_day, self.days, len(places), tallies)

    @cached_property
    def _prefixes(self) -> dict[Plane, Tally]:
        return {}

    def sums(self, plane: Plane, group: Ints, first: Ints, stop: Ints) -> Column:
        """Return for each row the plane's sum over days first..stop-1 of its group."""
        if plane not in self._prefixes:
            self._prefixes[plane] = self.tallies[plane].prefix()
        base = group * self.days
        lo = base + np.clip(first - self.first_day, 0, self.days)
        hi = base + np.clip(stop - self.first_day, 0, self.days)
        return self._prefixes[plane].between(lo, hi)

    def total(self, plane: Plane, lo: int, hi: int) -> int:
        """Return the plane's exact whole part over days lo..hi and all groups, without prefixes."""
        rows = self.tallies[plane].whole.reshape(self.groups, self.days)
        cut = slice(max(lo - self.first_day, 0), max(hi + 1 - self.first_day, 0))
        return int(rows[:, cut].sum())
