"""`Ledger`: the transactions themselves, for questions that days cannot answer.

Cells forget which transaction came first and where a day is cut. A ledger reads the
transactions once more, in the order of group, day, time and input, and treats each as a
cell of its own, so that every measure works over any run of them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.cells import Cells
from eptaro.core.column import join
from eptaro.core.days import Ints
from eptaro.core.errors import QuestionError
from eptaro.core.facts import Facts, View
from eptaro.core.fold import Batch, Fold
from eptaro.core.groups import Coded, Combiner, Encoder
from eptaro.core.ranges import stable_order


@dataclass(frozen=True, eq=False)
class Ledger:
    """Transactions of a view in order: group, day, place in the input (from 0).

    `cells` holds one cell per transaction, in the same order.
    """

    group: Ints
    day: Ints
    row: Ints
    cells: Cells

    @classmethod
    def of(cls, view: View) -> Ledger:
        """Read the transactions that a view sees.

        Raises `QuestionError` where they cannot be read again (as of an opened book).
        """
        group, batch = placed_rows(view)
        seen = (group >= 0) & (batch.days <= view.coverage.hi)
        time = np.zeros(len(batch), np.int64) if batch.times is None else batch.times
        row = np.arange(len(batch))
        order = np.lexsort((row, time, batch.days, group))
        order = order[seen[order]]
        single = replace(
            batch,
            days=np.arange(len(order), dtype=np.int32),
            groups={},
            values={name: column.take(order) for name, column in batch.values.items()},
            distinct={n: Coded(c.codes[order], c.choices) for n, c in batch.distinct.items()},
            times=None,
        )
        fold = Fold([], {plane for m in view.facts.measures for plane in m.planes})
        fold.add(single)
        own = group[order].astype(np.int64)
        return cls(own, batch.days[order].astype(np.int64), order, fold.result()[1])

    def upto(self, group: Ints, day: Ints) -> Ints:
        """Return how many transactions come before the end of each day of each group."""
        key = self.group * (1 << 32) + self.day
        return np.searchsorted(key, group * (1 << 32) + day, side="right")

    def opens(self, group: Ints) -> Ints:
        """Return the place of each group's first transaction."""
        return np.searchsorted(self.group, group)


def placed_rows(view: View) -> tuple[NDArray[np.int32], Batch]:
    """Return all transactions in input order, with the place of each one's group in the view.

    The place is -1 where the view leaves the group out.
    """
    number, rank, batch = _numbered_rows(view.facts)
    return _renumbered(number, view.places[rank]), batch


def _numbered_rows(facts: Facts) -> tuple[NDArray[np.int32], Ints, Batch]:
    """Return the number of each transaction's group as it came up, the place of each number
    among the groups in natural order, and all transactions in input order.
    """
    combiner = Combiner(facts.groups.names)
    numbers, batches = [], []
    for batch in _batches(facts):
        number = combiner.number(batch.groups)
        numbers.append(np.zeros(len(batch), np.int32) if number is None else number)
        batches.append(batch)
    groups = combiner.groups()
    rank = np.empty(groups.count, np.int64)
    rank[groups.order()] = np.arange(groups.count)
    every = numbers[0] if len(numbers) == 1 else np.concatenate(numbers)
    return every.astype(np.int32, copy=False), rank, _joined(batches)


def _renumbered(number: NDArray[np.int32], onto: Ints) -> NDArray[np.int32]:
    """Return the new number of each row, without a look at the rows where that can be."""
    if np.array_equal(onto, np.arange(len(onto))):
        return number
    if (onto == onto[0]).all():
        return np.full(len(number), onto[0], np.int32)
    return onto.astype(np.int32)[number]


@dataclass(frozen=True, eq=False)
class Index:
    """All transactions, findable by group and day without a search of rows.

    `order` holds their places in the input by group, day, time and input; `key` the group
    and day of each in that order, as group * `width` + day - `first`.
    """

    batch: Batch
    order: Ints
    key: NDArray[Any]
    first: int
    width: int

    @classmethod
    def of(cls, facts: Facts) -> Index:
        """Return the index of the transactions, made when first asked for."""
        kept = facts.folded.kept
        if "index" not in kept:
            number, rank, batch = _numbered_rows(facts)
            number = _renumbered(number, rank)
            first = int(batch.days.min())
            width = int(batch.days.max()) - first + 1
            small = len(rank) * width < 1 << 31  # half the memory to walk through
            key: NDArray[Any] = number.astype(np.int32 if small else np.int64) * width
            np.add(key, batch.days, out=key)
            np.subtract(key, first, out=key)
            order = _by_time(batch)
            if order is not None:
                order = order[stable_order(key[order])]
            elif (batch.days[1:] < batch.days[:-1]).any():
                order = stable_order(key)
            else:
                order = stable_order(number)
            kept["index"] = cls(batch, order, key[order], first, width)
        found: Index = kept["index"]
        return found

    def rows(self, groups: Ints, first: int, last: int) -> Ints:
        """Return the transactions of some groups and a span of days, by day, time and input."""
        base = groups.astype(np.int64) * self.width
        limits = [base + min(max(day - self.first, 0), self.width) for day in (first, last + 1)]
        lo, hi = (np.searchsorted(self.key, limit.astype(self.key.dtype)) for limit in limits)
        if len(groups) == 1:
            return self.order[lo[0] : hi[0]]
        hit = np.concatenate([self.order[a:b] for a, b in zip(lo, hi, strict=True)])
        times = hit if self.batch.times is None else self.batch.times[hit]
        return np.asarray(hit[np.lexsort((hit, times, self.batch.days[hit]))])


def _by_time(batch: Batch) -> Ints | None:
    """Return the order by time of day, or None where rows of a day stand in it already."""
    if batch.times is None:
        return None
    same_day = batch.days[1:] == batch.days[:-1]
    if not (same_day & (batch.times[1:] < batch.times[:-1])).any():
        return None
    return np.argsort(batch.times, kind="stable")


def _batches(facts: Facts) -> Any:
    if facts.folded.reread is None:
        raise QuestionError(
            "this needs the transactions, which a book that was opened or merged has not; "
            "read them with Daybook.read"
        )
    return facts.folded.reread()


def _joined(batches: list[Batch]) -> Batch:
    if len(batches) == 1:
        return batches[0]
    values = {name: join([b.values[name] for b in batches]) for name in batches[0].values}
    distinct = {}
    for name in batches[0].distinct:
        encoder = Encoder(name)
        codes = [
            np.where(b.distinct[name].codes < 0, -1, encoder.encode(b.distinct[name]))
            for b in batches
        ]
        distinct[name] = Coded(np.concatenate(codes).astype(np.int32), encoder.coded().choices)
    times = None
    if any(b.times is not None for b in batches):
        times = np.concatenate(
            [np.zeros(len(b), np.int64) if b.times is None else b.times for b in batches]
        )
    days: NDArray[np.int32] = np.concatenate([b.days for b in batches])
    return Batch(days, {}, values, distinct, times)
