"""`Index`: all transactions, findable by day."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.batch import Batch
from eptaro.core.kernels.sorting import stable_order
from eptaro.core.questions.transactions import all_rows
from eptaro.core.questions.view import Facts


@dataclass(frozen=True, eq=False)
class Index:
    """All transactions, findable by day, so that a look at some days touches their rows alone.

    `order` holds their places in the input by day, time and input (None where they stand so
    already), `days` and `numbers` the day and the group of each in that order; `number_of`
    leads from a group's place in natural order to its number.
    """

    batch: Batch
    order: NDArray[Any] | None
    days: NDArray[np.int32]
    numbers: NDArray[np.int32]
    number_of: Ints

    @classmethod
    def of(cls, facts: Facts) -> Index:
        """Return the index of the transactions, made when first asked for."""
        kept = facts.folded.kept
        if "index" not in kept:
            numbers, rank, batch = all_rows(facts)
            days, order = batch.days, _in_order(batch)
            if order is not None:
                order = order.astype(np.int32) if len(order) < 1 << 31 else order
                days, numbers = days[order], numbers[order]
            kept["index"] = cls(batch, order, days, numbers, np.argsort(rank))
        found: Index = kept["index"]
        return found

    @cached_property
    def owners(self) -> NDArray[np.int32]:
        """The number of each transaction's group, by its place in the input."""
        if self.order is None:
            return self.numbers
        found = np.empty(len(self.numbers), np.int32)
        found[self.order] = self.numbers
        return found

    def rows(self, groups: Ints, first: int, last: int) -> Ints:
        """Return the transactions of some groups and a span of days, by day, time and input."""
        lo, hi = np.searchsorted(self.days, np.array([first, last + 1], np.int32)).tolist()
        own, numbers = self.number_of[groups], self.numbers[lo:hi]
        if len(own) == len(self.number_of):
            at = np.arange(lo, hi)
        elif len(own) == 1:
            at = np.flatnonzero(numbers == own[0]) + lo
        else:
            wanted = np.zeros(len(self.number_of), bool)
            wanted[own] = True
            at = np.flatnonzero(wanted[numbers]) + lo
        return at if self.order is None else self.order[at]


def _in_order(batch: Batch) -> NDArray[Any] | None:
    """Return the order by day, time and input, or None where rows stand in it already."""
    days, times, order = batch.days, batch.times, None
    if (days[1:] < days[:-1]).any():
        order = stable_order(days - days.min())
        days = days[order]
    if times is not None:
        own = times if order is None else times[order]
        if ((days[1:] == days[:-1]) & (own[1:] < own[:-1])).any():
            order = np.lexsort((times, batch.days))
    return order
