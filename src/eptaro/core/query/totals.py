"""Totals of all groups, also where only some are in memory: parts that are merged."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Protocol, Self, TypeVar

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Groups
from eptaro.core.calendars.days import FIRST_DAY, Flags, Ints
from eptaro.core.kernels import bigint
from eptaro.core.query.coverage import GroupSpans
from eptaro.core.results.column import Column
from eptaro.record import record


class Share(Protocol):
    """The total of some groups, which is merged with those of others."""

    def combine(self, other: Self) -> Self:
        """Return the result of the groups of both."""
        ...


AnyShare = TypeVar("AnyShare", bound=Share)
Key = tuple[str, str]  # the name of a calendar, and what a share of the whole is for


class GlobalTotals:
    """What a question has to know of all groups, where those at hand may be some; here, all are."""

    named = False  # whether the groups at hand are those that a question names

    def global_value(self, key: Key, share: AnyShare) -> AnyShare:
        """Return the result of all groups, where `share` is the result of those at hand."""
        return share

    def pick_groups(self, places: Ints, count: int) -> Flags | None:
        """Return which of so many groups are the largest, where these were picked before; `places`
        is where each group at hand went.

        `places` is `(n_groups,)`, the flags are `(count,)`.
        """
        return None


@record
class ReducedBook:
    """What was folded of some groups, and the days that each covers where groups have their own."""

    folded: Folded
    own: GroupSpans | None = None

    def combine(self, other: ReducedBook) -> ReducedBook:
        """Return what was folded of the groups of both, which add up where they are alike."""
        from eptaro.core.aggregation.merge import numbered_together, renumber_distinct, rows_after

        one, two = self.folded, renumber_distinct(self.folded, other.folded)
        groups, places = numbered_together([one.groups, two.groups])
        first, second = (
            part.cells.regroup(place, groups.count)
            for part, place in zip((one, two), places, strict=True)
        )
        cells = first.plus(rows_after(second, first), apart=True)
        rows, distinct = one.rows + two.rows, {**one.distinct, **two.distinct}
        folded = replace(one, groups=groups, cells=cells, rows=rows, distinct=distinct)
        if self.own is None or other.own is None:
            return ReducedBook(folded)
        lo, hi = np.full(groups.count, np.iinfo(np.int64).max), np.full(groups.count, FIRST_DAY)
        for own, place in zip((self.own, other.own), places, strict=True):
            np.minimum.at(lo, place, own.lo)
            np.maximum.at(hi, place, own.hi)
        return ReducedBook(folded, GroupSpans(lo, hi, self.own.asked))


@record
class GroupSet:
    """The groups that there are."""

    groups: Groups

    def combine(self, other: GroupSet) -> GroupSet:
        """Return the groups of both, in natural order."""
        from eptaro.core.aggregation.merge import numbered_together

        used = [self.groups.drop_unused(), other.groups.drop_unused()]
        return GroupSet(numbered_together(used)[0])

    def places(self, some: Groups) -> Ints:
        """Return the places of some of the groups among all."""
        from eptaro.core.aggregation.merge import numbered_together

        return numbered_together([self.groups, some.drop_unused()])[1][1]


@record
class GroupTotals:
    """The values of a measure added up over groups, for each of some rows; exact unless floats.

    `groups` is of how many groups.
    """

    groups: int
    sums: NDArray[Any]
    scale: int = 0

    @classmethod
    def of(cls, groups: int, value: Column, row: Ints, rows: int) -> GroupTotals:
        """Return a column added up by the row that each of its values belongs to.

        `row` is `(n_values,)`.
        """
        blank = value.blank
        if value.kind == "float":  # sums beyond the floats are whole numbers until they are shown
            numbers = np.where(blank, 0.0, np.nan_to_num(value.numbers()))
            return cls(groups, np.bincount(row, weights=numbers, minlength=rows))
        data = bigint.added_up(np.where(blank, 0, value.data))
        sums: NDArray[Any] = np.zeros(rows, data.dtype)
        np.add.at(sums, row, data)
        return cls(groups, bigint.added_up(sums), value.scale)

    def combine(self, other: GroupTotals) -> GroupTotals:
        """Return the sums over the groups of both."""
        one, two = self.sums, other.sums
        added = one + two if one.dtype.kind == "f" else bigint.add(one, two)
        return GroupTotals(self.groups + other.groups, added, self.scale)

    def numbers(self) -> NDArray[np.float64]:
        """Return the sums as floats."""
        return bigint.to_floats(self.sums) / 10.0**self.scale

    def total(self, rows: NDArray[Any]) -> float:
        """Return what some of the rows add up to, as a float.

        `rows` is `(n,)`, or flags `(n_rows,)`.
        """
        if self.sums.dtype.kind == "f":
            return float(self.sums[rows].sum())
        sums = bigint.to_floats(np.array([bigint.exact_total(self.sums[rows])], object))
        return float(sums[0]) / 10.0**self.scale
