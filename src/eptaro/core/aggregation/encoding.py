"""Codes for the distinct values of columns: whole numbers, texts and groups of several columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.groups import Categorical, Groups, words_of
from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.parallel import parallel_for
from eptaro.core.kernels.range_sums import count_below
from eptaro.core.kernels.sorting import joined_runs
from eptaro.core.results.column import Column, ColumnKind
from eptaro.errors import InputError


class IntegerTable:
    """Gives each different value one number, in the order met.

    >>> table = IntegerTable()
    >>> table.number(np.array([70, 30])).tolist(), table.number(np.array([30, 50])).tolist()
    ([0, 1], [1, 2])
    >>> table.values().tolist()
    [70, 30, 50]
    """

    def __init__(self) -> None:
        self._known = np.empty(0, np.int64)  # in order
        self._numbers = np.empty(0, np.int32)

    def __len__(self) -> int:
        return len(self._known)

    def number(self, values: Ints) -> NDArray[np.int32]:
        """Return the number of each of some different values.

        `values` and the numbers are `(n_values,)`.
        """
        order = None
        if not (values[1:] > values[:-1]).all():
            order = np.argsort(values, kind="stable")
            values = values[order]
        at = count_below(self._known, values)
        old = at < len(self)
        old[old] = self._known[at[old]] == values[old]
        numbers = np.empty(len(values), np.int32)
        numbers[old] = self._numbers[at[old]]
        new = np.flatnonzero(~old)
        fresh = np.arange(len(self), len(self) + len(new), dtype=np.int32)
        numbers[new] = fresh
        if order is not None:
            numbers[new[np.argsort(order[new], kind="stable")]] = fresh
        union, mine, theirs = joined_runs(self._known, values[new])
        numbers_of_all = np.empty(len(union), np.int32)
        numbers_of_all[mine], numbers_of_all[theirs] = self._numbers, numbers[new]
        self._known, self._numbers = union, numbers_of_all
        if order is None:
            return numbers
        codes = np.empty(len(values), np.int32)
        codes[order] = numbers
        return codes

    def values(self) -> Ints:
        """Return all values by their numbers."""
        values = np.empty(len(self), np.int64)
        values[self._numbers] = self._known
        return values


class StringTable:
    """Gives each different text one number, in the order met.

    >>> table = StringTable()
    >>> table.number(np.array(["b", "a"], object)), table.number(np.array(["a", "c"], object))
    (array([0, 1], dtype=int32), array([1, 2], dtype=int32))
    >>> table.values().tolist()
    ['b', 'a', 'c']
    """

    def __init__(self) -> None:
        self._keys = IntegerTable()
        self._met = np.empty(0, object)  # texts by their numbers, with room behind them

    def __len__(self) -> int:
        return len(self._keys)

    def number(self, words: NDArray[Any]) -> NDArray[np.int32] | None:
        """Return the number of each of some different texts; None, and nothing is met then, where
        hashes do not distinguish texts.
        """
        from eptaro.core.kernels.texts import hashes_of_texts  # which most books do without

        keys = hashes_of_texts(words).view(np.int64)
        ordered = np.sort(keys)
        if (ordered[1:] == ordered[:-1]).any():
            return None
        before = len(self)
        numbers = self._keys.number(keys)
        fresh = words[numbers >= before]
        if before + len(fresh) > len(self._met):
            grown = np.empty(2 * (before + len(fresh)), object)
            grown[:before] = self._met[:before]
            self._met = grown
        self._met[before : before + len(fresh)] = fresh
        return numbers if (self._met[numbers] == words).all() else None

    def values(self) -> NDArray[Any]:
        """Return all texts by their numbers."""
        return self._met[: len(self)]


_ROWS_OF_FEW = 1 << 12  # rows for each value


class Slots(NamedTuple):
    """The group of each row, `(n_rows,)` whole numbers, of which the first group's is `least`."""

    rows: NDArray[Any]
    least: int


class CategoryEncoder:
    """Gives each distinct value of a column one number, the same in every batch.

    The blank has a number too. Where the first batch has many values, they are numbered in natural
    order, so that nothing need be put in order where there is just one; of few, it is quicker to
    put the cells in order in the end. As `words`, for values
    that are only counted, numbers go by the order met, and the blank is -1. A table of numbers
    is made when a second batch comes.
    """

    def __init__(self, name: str, *, words: bool = False) -> None:
        self.name, self._words = name, words
        self._first: Categorical | None = None  # each value of the first batch, by its number
        self._table: IntegerTable | StringTable | dict[Any, int] = {}  # without the blank
        self._blank: int | None = None  # the number of the blank; those from there on move up
        self._kind: ColumnKind | None = None
        self._unit = ""

    def encode(self, coded: Categorical) -> NDArray[np.int32]:
        """Return the number of each row's value."""
        numbers = self._numbers_of_codes(coded)
        return coded.codes if numbers is None else align_codes(numbers, coded.codes)

    def slots(self, coded: Categorical) -> Slots:
        """Return the number of each row's value; whole numbers without a gap are left as they are
        where their numbers have none either.
        """
        numbers = self._numbers_of_codes(coded)
        if coded.consecutive is not None:
            start = 0 if numbers is None else int(numbers[0])
            run = np.arange(start, start + len(coded.choices))
            if numbers is None or np.array_equal(numbers[: len(run)], run):
                return Slots(coded.consecutive, coded.least - start)
        return Slots(coded.codes if numbers is None else align_codes(numbers, coded.codes), 0)

    def _numbers_of_codes(self, coded: Categorical) -> NDArray[np.int32] | None:
        """Return the number of each code, that of -1 last; None where each code is its number."""
        choices = coded.choices
        if self._words:
            self._kind = "text"
        elif len(choices):
            if choices.kind != (self._kind or choices.kind):
                raise InputError(
                    f"column {self.name!r} holds {self._kind} values in one part and "
                    f"{choices.kind} values in another"
                )
            self._kind, self._unit = choices.kind, choices.unit
        if not len(self):
            return self._number_first(coded)
        if self._first is not None:
            self._tabulate(self._first)
        numbers_of_choices = self._numbers_of(choices)
        if self._words:
            return np.append(numbers_of_choices, np.int32(-1))
        if coded.has_blanks:
            self._blank = len(self) if self._blank is None else self._blank
            return np.append(numbers_of_choices, np.int32(self._blank))
        return numbers_of_choices

    def _number_first(self, coded: Categorical) -> NDArray[np.int32] | None:
        choices = coded.choices
        places = np.arange(len(choices), dtype=np.int32)
        if self._words:
            self._first = Categorical(places, choices)
            return None
        ranks = coded.ranks
        if len(choices) <= len(coded) // _ROWS_OF_FEW:
            ranks = np.arange(len(choices) + 1)
        order = np.empty(len(choices), np.int64)
        order[ranks[:-1]] = places
        blank = coded.has_blanks
        self._first = Categorical(
            np.append(places, np.int32(-1)) if blank else places, choices.take(order)
        )
        if np.array_equal(order, places) and not blank:
            return None
        return ranks.astype(np.int32)

    def to_categorical(self) -> Categorical:
        """Return all values met, and for each number the place of its value, -1 for the blank."""
        if self._first is not None:
            return self._first
        codes = np.arange(len(self), dtype=np.int32)
        if self._blank is not None:
            codes[self._blank :] -= 1
            codes[self._blank] = -1
        return Categorical(codes, self._choices())

    def _tabulate(self, first: Categorical) -> None:
        """Make the table of numbers, from what the first batch held."""
        self._first = None
        if first.choices.kind == "integer":
            self._table = IntegerTable()
        elif first.choices.kind == "text":
            self._table = StringTable()
        blank = np.flatnonzero(first.codes < 0)
        self._numbers_of(first.choices)
        self._blank = int(blank[0]) if len(blank) else None

    def _numbers_of(self, choices: Column) -> NDArray[np.int32]:
        """Return the numbers of values, new ones where they are."""
        if isinstance(self._table, IntegerTable):
            if choices.kind == "integer" or not len(choices):
                codes = self._table.number(choices.data.astype(np.int64))
                return self._shift_up(codes)
            self._table = {str(v): n for n, v in enumerate(self._table.values().tolist())}
        if isinstance(self._table, StringTable):
            if choices.kind == "text" or not len(choices):
                numbers = self._table.number(words_of(choices)) if len(choices) else None
                if numbers is not None or not len(choices):
                    return self._shift_up(np.empty(0, np.int32) if numbers is None else numbers)
            self._table = {value: n for n, value in enumerate(self._table.values().tolist())}
        table, values = self._table, choices.to_list()
        if self._words and choices.kind != "text":
            values = [*map(str, values)]
        numbers_of_values = [table.setdefault(value, len(table)) for value in values]
        return self._shift_up(np.array(numbers_of_values, np.int32))

    def _shift_up(self, numbers: NDArray[np.int32]) -> NDArray[np.int32]:
        """`numbers` is `(n_values,)` and changed in place."""
        if self._blank is not None:
            numbers += numbers >= self._blank
        return numbers

    def _choices(self) -> Column:
        """Return all values but the blank, by their numbers."""
        if isinstance(self._table, IntegerTable):
            whole = self._table.values()
            if not self._words:
                return Column.of(self.name, "integer", whole, unit=self._unit)
            return Column.text(self.name, np.array([*map(str, whole.tolist()), None], object)[:-1])
        if isinstance(self._table, StringTable):
            return Column.text(self.name, self._table.values())
        values = [*self._table]
        if self._kind in (None, "text"):
            return Column.text(self.name, np.array([*values, None], object)[:-1])
        if self._kind == "date":
            days = np.array(values, "datetime64[D]").astype(np.int64)
            return Column.of(self.name, "date", days)
        return Column.of(self.name, self._kind, np.array(values), unit=self._unit)

    def __len__(self) -> int:
        if self._first is not None:
            return len(self._first.codes)
        return len(self._table) + (self._blank is not None)


class GroupEncoder:
    """Gives each combination of group values one number, the same in every batch."""

    def __init__(self, names: Sequence[str]) -> None:
        self.encoders = [CategoryEncoder(name) for name in names]
        self._pairs = [IntegerTable() for _ in names[1:]]

    def slots(self, coded: Mapping[str, Categorical]) -> Slots | None:
        """Return the number of each row's combination, as it is folded; None where there is one for
        all.
        """
        if len(self.encoders) == 1:
            return self.encoders[0].slots(coded[self.encoders[0].name])
        numbers = self.number(coded)
        return None if numbers is None else Slots(numbers, 0)

    def number(self, coded: Mapping[str, Categorical]) -> NDArray[Any] | None:
        """Return the number of each row's combination; None where there is one for all."""
        if not self.encoders:
            return None
        from eptaro.core.kernels.factorize import factorize, factorize_pairs

        parts = [encoder.encode(coded[encoder.name]) for encoder in self.encoders]
        numbers: NDArray[Any] = parts[0]
        height = len(self.encoders[0])
        for part, encoder, pairs in zip(parts[1:], self.encoders[1:], self._pairs, strict=True):
            width = len(encoder)
            if width * height <= 8 * len(part) + (1 << 16) and numbers.dtype == np.int32:
                met, places = factorize_pairs(numbers, part, height, width)
            else:
                combined = numbers.astype(np.int64)
                combined *= width
                combined += part
                met, places = factorize(combined, width * height)
            keys = (met // max(width, 1) << 32) | met % max(width, 1)
            numbers_of_pairs = pairs.number(keys)
            in_order = np.array_equal(numbers_of_pairs, np.arange(len(numbers_of_pairs)))
            numbers = places if in_order else numbers_of_pairs[places]
            height = len(pairs)
        return numbers

    def __len__(self) -> int:
        if not self.encoders:
            return 1
        return len(self._pairs[-1]) if self._pairs else len(self.encoders[0])

    def ranked_groups(self) -> tuple[Groups, Ints]:
        """Return all combinations met in natural order, and the place of each number there."""
        groups = self.groups()
        order = groups.order()
        rank = np.empty(groups.count, np.int64)
        rank[order] = np.arange(groups.count)
        return groups.at(order), rank

    def groups(self) -> Groups:
        """Return all combinations met, in the order of their numbers."""
        if not self.encoders:
            return Groups({}, 1)
        numbers = np.arange(len(self))
        parts = []
        for pairs in reversed(self._pairs):
            keys = pairs.values()[numbers]
            parts.append(keys & 0xFFFFFFFF)
            numbers = keys >> 32
        parts.append(numbers)
        columns = {}
        for encoder, part in zip(self.encoders, reversed(parts), strict=True):
            coded = encoder.to_categorical()
            columns[encoder.name] = Categorical(coded.codes[part], coded.choices)
        return Groups(columns, len(self))


def align_codes(numbers: NDArray[np.int32], codes: NDArray[np.int32]) -> NDArray[np.int32]:
    """Return the number of each code; that of -1 is last.

    `numbers` is `(n_choices + 1,) int32`, `codes` and the result are `(n_rows,) int32`.
    """
    aligned = np.empty(len(codes), np.int32)

    def some(of: slice) -> None:
        np.take(numbers, codes[of], out=aligned[of], mode="wrap")

    parallel_for(some, len(codes))
    return aligned
