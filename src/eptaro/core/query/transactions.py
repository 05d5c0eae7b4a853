"""`Ledger`: the transactions themselves, for questions about single rows.

Cells forget which transaction came first and where a day is cut. A ledger reads the
transactions once more, in the order of group, day, time and input, and treats each as a
cell of its own, so that every measure works over any run of them.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.axis import MOST_DENSE
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.encoding import CategoryEncoder, GroupEncoder
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.days import Days, Ints
from eptaro.core.kernels.parallel import gather
from eptaro.core.kernels.sorting import stable_order
from eptaro.core.query.lineage import Side, ViewLineage
from eptaro.core.query.query import Query
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import AnyColumn, Column, date_column, join_columns, take_lazy
from eptaro.core.results.format import COMPLETE, DATE, FIRST, LAST, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError
from eptaro.record import record


@record
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
        countable = (group >= 0) & (batch.days <= view.coverage.hi)
        time = np.zeros(len(batch), np.int64) if batch.times is None else np.asarray(batch.times)
        row = np.arange(len(batch))
        # The input order settles what day and time leave open, as everywhere.
        order = np.lexsort((row, time, batch.days, group))
        order = order[countable[order]]
        # Each transaction becomes a day of its own, so that windows of transactions are folded by
        # the same code as windows of days.
        single = replace(
            batch,
            days=np.arange(len(order), dtype=np.int32),
            groups={},
            values={name: column.take(order) for name, column in batch.values.items()},
            distinct={n: Categorical(c.codes[order], c.choices) for n, c in batch.distinct.items()},
            times=None,
        )
        fold = Fold([], {plane for m in view.facts.measures for plane in m.planes})
        fold.add(single)
        own = group[order].astype(np.int64)
        places = order if batch.places is None else batch.places[order]
        return cls(own, batch.days[order].astype(np.int64), places, fold.result()[1])

    def upto(self, group: Ints, day: Ints) -> Ints:
        """Return how many transactions come before the end of each day of each group.

        All arrays are `(n,)`.
        """
        # Groups and days as one number, which one search can find; days fit into 32 bits.
        key = self.group * (1 << 32) + self.day
        return np.searchsorted(key, group * (1 << 32) + day, side="right")

    def opens(self, group: Ints) -> Ints:
        """Return the place of each group's first transaction. `group` and the places are `(n,)`."""
        return np.searchsorted(self.group, group)


def placed_rows(view: View) -> tuple[NDArray[np.int32], Batch]:
    """Return all transactions in input order, with the place of each one's group in the view.

    The place is -1 where the view leaves the group out.
    """
    number, rank, batch = all_rows(view.facts)
    return _renumber(number, view.places[rank]), batch


def numbered_rows(view: View) -> tuple[NDArray[np.int32], Ints, Batch]:
    """Return the number of each transaction's group in the book, the place in the view that each
    number has (-1 where it is left out), and all transactions in input order.
    """
    number, rank, batch = all_rows(view.facts)
    return number, view.places[rank], batch


def all_rows(facts: BookData) -> tuple[NDArray[np.int32], Ints, Batch]:
    """Return the number of each transaction's group as it came up, the place of each number
    among the groups in natural order, and all transactions in input order.
    """
    combiner = GroupEncoder(facts.groups.names)
    numbers: list[NDArray[Any]] = []
    batches: list[Batch] = []
    for batch in _batches(facts):
        number = combiner.number(batch.groups)
        numbers.append(np.zeros(len(batch), np.int32) if number is None else number)
        # The first is kept as it is: most inputs have one batch, which need not be copied.
        batches.append(_copy_values(batch) if batches else replace(batch, groups={}))
    _, rank = combiner.ranked_groups()
    number = _concatenate_arrays(numbers).astype(np.int32, copy=False)
    if len(rank) > facts.groups.count:  # words of a dictionary that no row has make no group
        used = np.bincount(number, minlength=len(rank)) > 0
        among = np.zeros(len(rank), bool)
        among[rank[used]] = True
        rank = np.where(used, (np.cumsum(among) - 1)[rank], 0)
    return number, rank, _concatenate_batches(batches)


def _renumber(number: NDArray[np.int32], onto: Ints) -> NDArray[np.int32]:
    """Return the new number of each row, without a look at the rows where that can be.

    `number` is `(n_rows,)`, `onto` is `(n_old_numbers,)`.
    """
    if np.array_equal(onto, np.arange(len(onto))):
        return number
    if (onto == onto[0]).all():
        return np.full(len(number), onto[0], np.int32)
    return onto.astype(np.int32)[number]


def _batches(facts: BookData) -> Any:
    if facts.tables:
        raise QuestionError(
            f"this looks at single transactions, which are those of one book: ask that book, of "
            f"{', '.join(facts.tables)}"
        )
    if facts.folded.reread is None:
        raise QuestionError(
            "this needs the transactions, which a book that was opened or merged has not; "
            "read them with Daybook.read"
        )
    return facts.folded.reread()


def _copy_values(batch: Batch) -> Batch:
    """Return a copy without the groups, so that what was read for the batch can be let go."""
    return Batch(
        batch.days.copy(),
        {},
        {name: replace(c, data=c.data.copy()) for name, c in batch.values.items()},
        {name: Categorical(c.codes.copy(), c.choices) for name, c in batch.distinct.items()},
        None if batch.times is None else np.array(batch.times),
        batch.first_row,
        batch.places,
        batch.inputs,
        batch.hours,
    )


def _concatenate_batches(batches: list[Batch]) -> Batch:
    """Return batches as one, and forget them column by column: the list is empty afterwards."""
    if len(batches) == 1:
        return batches[0]
    times = None
    if any(b.times is not None for b in batches):
        times = [
            np.zeros(len(b), np.int64) if b.times is None else np.asarray(b.times) for b in batches
        ]
    places = None
    if any(b.places is not None for b in batches):
        places = [
            np.arange(b.first_row, b.first_row + len(b)) if b.places is None else b.places
            for b in batches
        ]
    days = [b.days for b in batches]
    values = {name: [b.values[name] for b in batches] for name in batches[0].values}
    distinct = {name: [b.distinct[name] for b in batches] for name in batches[0].distinct}
    inputs = {name: [b.inputs[name] for b in batches] for name in batches[0].inputs}
    hours = {name: [b.hours[name] for b in batches] for name in batches[0].hours}
    batches.clear()
    return Batch(
        _concatenate_arrays(days),
        {},
        {name: join_columns(values.pop(name)) for name in list(values)},
        {name: _recode(name, distinct.pop(name)) for name in list(distinct)},
        None if times is None else _concatenate_arrays(times),
        0,
        None if places is None else _concatenate_arrays(places),
        {name: join_columns(inputs.pop(name)) for name in list(inputs)},
        {name: join_columns(hours.pop(name)) for name in list(hours)},
    )


def _recode(name: str, parts: list[Categorical]) -> Categorical:
    encoder = CategoryEncoder(name, words=True)
    codes = [encoder.encode(part) for part in parts]
    return Categorical(np.concatenate(codes), encoder.to_categorical().choices)


def _concatenate_arrays(parts: list[NDArray[Any]]) -> NDArray[Any]:
    """Return arrays as one, and forget them: the list is empty afterwards. Each is `(n_part,)`."""
    array = parts[0] if len(parts) == 1 else np.concatenate(parts)
    parts.clear()
    return array


def last_entries(
    view: View, n: int, ending: str, label: Column, query: Query, *, whole: bool = False
) -> Result:
    """Return for each transaction the measures over the last `n` up to it, in its group.

    The columns are those of `per_row`; the label is one for all. `first` is the day of the first
    of these transactions, and a window of fewer is not complete.
    """
    ledger = Ledger.of(view)
    places, covered = np.arange(len(ledger.row)), view.seen
    lo = np.maximum(places - n + 1, ledger.opens(ledger.group))
    entries = np.flatnonzero((ledger.day >= covered.lo) & (ledger.day <= covered.hi))
    entries = entries[np.argsort(ledger.row[entries])]
    lo, hi, group = lo[entries], entries + 1, ledger.group[entries]
    complete = hi - lo == n
    columns: list[AnyColumn] = [
        _row_numbers(ledger.row[entries] + 1),
        *view.groups.later(group),
        date_column("date", ledger.day[entries], None, "The transaction's day", DATE),
        label.take(np.zeros(len(entries), np.int64)),
        date_column("first", ledger.day[lo], None, "First day of the value", FIRST),
        date_column("last", ledger.day[entries], None, "Last day of the value", LAST),
        Column.of("complete", "flag", complete, description=_ENOUGH, face=COMPLETE),
    ]
    for measure in view.facts.measures:
        if measure.needs_days:
            raise QuestionError(f"{measure.formula} needs whole days; a number of entries has none")
        value = measure.over_cells(ledger.cells, lo, hi, view.facts.folded.formats)
        value = value.blanked(complete) if whole else value
        columns.append(value.named(f"{measure.name}{ending}", f"{measure.formula} over the window"))
    answer = ViewLineage(query, view, group, {})
    return Result(columns, view.meta(query.verb) | {"every": "entry"}, answer)


def _row_numbers(rows: Ints) -> Column:
    """Return the column of row numbers; `rows` is `(n,)`."""
    face = DisplayHint("row", Priority.KEY)
    return Column.of(
        "row", "integer", rows, unit="number", description="Place in the input", face=face
    )


LABEL = "What the value is of"
_ENOUGH = "Whether there are as many transactions"


_WHOLE = "Whether all its days lie in the coverage"


def per_row(
    view: View, side: Side, ending: str, label: Column, query: Query, *, whole: bool = False
) -> Result:
    """Return for each transaction the measures over the span that goes with its day.

    `side` and `label` hold one span and one label per day of `view.seen`. Columns: `row`
    (place in the input, from 1), the groups, `date`, the label, `first`, `last`,
    `complete`, and `NAME` + `ending` per measure, of `whole` spans alone where that is asked.
    These numbers have no trace.
    """
    group, batch = placed_rows(view)
    covered, day = view.seen, batch.days
    rows = np.arange(1, len(batch) + 1) if batch.places is None else batch.places + 1
    if len(rows) and rows[-1] <= np.iinfo(np.int32).max:  # half the room
        rows = rows.astype(np.int32)
    if group.min() < 0 or batch.days.min() < covered.lo or batch.days.max() > covered.hi:
        in_view = (group >= 0) & (batch.days >= covered.lo) & (batch.days <= covered.hi)
        group, day, rows = group[in_view], day[in_view], rows[in_view]
    day = day - np.int32(covered.lo)
    # Values are calculated once per group and day, and then taken row by row.
    cell_group, cell_day, at = _cells_of_rows(group, day, view.groups.count, covered.days)
    first, last = np.asarray(side.first), np.asarray(side.last)
    days = [
        date_column(
            "date", np.arange(covered.lo, covered.hi + 1), None, "The transaction's day", DATE
        ),
        label,
        date_column("first", first, None, "First day of the value", FIRST),
        date_column("last", last, None, "Last day of the value", LAST),
    ]
    if view.covers_by_group:
        whole_of = view.complete(gather(first, day), gather(last, day), group)
    else:
        whole_of = gather(view.complete(first, last), day)
    columns: list[AnyColumn] = [
        _row_numbers(rows),
        *view.groups.later(group),
        *take_lazy(days, day),
        Column.of("complete", "flag", whole_of, description=_WHOLE, face=COMPLETE),
    ]
    for measure in view.facts.measures:
        value = view.value(measure, cell_group, first[cell_day], last[cell_day])
        if whole:
            value = value.blanked(view.complete(first[cell_day], last[cell_day], cell_group))
        columns += take_lazy([value.named(f"{measure.name}{ending}")], at)
    answer = ViewLineage(query, view, group, {})
    return Result(columns, view.meta(query.verb) | {"every": "entry"}, answer)


def _cells_of_rows(group: Days, day: Days, groups: int, width: int) -> tuple[Ints, Ints, Ints]:
    """Return group and day of the cells that transactions lie in, and the place of each row's.

    `group`, `day` and the places are `(n_rows,)`, the others `(n_cells,)`.
    """
    if groups * width <= MOST_DENSE:
        cell_group, cell_day = np.divmod(np.arange(groups * width), width)
        at = group.astype(np.intp)
        at *= width
        at += day
        return cell_group, cell_day, at
    keys, at = np.unique(group.astype(np.int64) * width + day, return_inverse=True)
    cell_group, cell_day = np.divmod(keys, width)
    return cell_group, cell_day, at


@record
class Index:
    """All transactions, findable by day, so that a look at some days touches their rows alone.

    `order` holds their places in the input by day, time and input (None where they are so
    already), `days` and `numbers` the day and the group of each in that order; `number_of`
    leads from a group's place in natural order to its number.
    """

    batch: Batch
    order: NDArray[Any] | None
    days: NDArray[np.int32]
    numbers: NDArray[np.int32]
    number_of: Ints

    @classmethod
    def of(cls, facts: BookData) -> Index:
        """Return the index of the transactions, made when first asked for."""
        cache = facts.folded.cache
        if "index" not in cache:
            numbers, rank, batch = all_rows(facts)
            days, order = batch.days, _time_order(batch)
            if order is not None:
                order = order.astype(np.int32) if len(order) < 1 << 31 else order
                days, numbers = days[order], numbers[order]
            cache["index"] = cls(batch, order, days, numbers, np.argsort(rank))
        index: Index = cache["index"]
        return index

    @cached_property
    def owners(self) -> NDArray[np.int32]:
        """The number of each transaction's group, by its place in the input."""
        if self.order is None:
            return self.numbers
        numbers = np.empty(len(self.numbers), np.int32)
        numbers[self.order] = self.numbers
        return numbers

    def rows(self, groups: Ints, first: int, last: int) -> Ints:
        """Return the transactions of some groups and a span of days, by day, time and input.

        `groups` is `(n_groups,)`, the places are `(n_transactions,)`.
        """
        lo, hi = np.searchsorted(self.days, np.array([first, last + 1], np.int32)).tolist()
        own, numbers = self.number_of[groups], self.numbers[lo:hi]
        if len(own) == len(self.number_of):
            at = np.arange(lo, hi)
        elif len(own) == 1:
            at = np.flatnonzero(numbers == own[0]) + lo
        else:
            is_own = np.zeros(len(self.number_of), bool)
            is_own[own] = True
            at = np.flatnonzero(is_own[numbers]) + lo
        return at if self.order is None else self.order[at]


def _time_order(batch: Batch) -> NDArray[Any] | None:
    """Return the order by day, time and input, or None where rows are in it already."""
    days, order = batch.days, None
    if (days[1:] < days[:-1]).any():
        order = stable_order(days - days.min())
        days = days[order]
    if batch.times is not None:
        times = np.asarray(batch.times)
        own = times if order is None else times[order]
        if ((days[1:] == days[:-1]) & (own[1:] < own[:-1])).any():
            order = np.lexsort((times, batch.days))
    return order
