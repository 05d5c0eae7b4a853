"""The answer behind a table: for each of its numbers the measure, the days and the transactions.

Proofs, pictures and reports read it, so that nothing need be read from the names of columns.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Literal, Self, TypeAlias, assert_never

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import Amount
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.query import Query
from eptaro.core.query.view import View
from eptaro.core.results.column import ManyFlags, ManyInts, TiledArray
from eptaro.core.results.result import Lineage, Result
from eptaro.record import Record, record


@record
class Side:
    """A span of days for each row, under the name that a trace gives it."""

    name: str
    first: ManyInts
    last: ManyInts
    exists: Flags | None = None

    def span(self, row: int) -> Span | None:
        """Return the span of one row, or None where it does not exist."""
        if self.exists is not None and not self.exists[row]:
            return None
        return Span.of(self.first[row], self.last[row])


@record
class AttributeFilter:
    """Transactions picked by what their days bear: for each attribute the words of its rows."""

    words: Mapping[str, NDArray[Any]]

    def values_of_row(self, row: int) -> dict[str, str]:
        """Return the attributes and values of one row."""
        return {name: str(words[row]) for name, words in self.words.items()}


@record
class LastN(Record):
    """Transactions picked by their number: the last so many up to the end of the days."""

    amount: Amount


Picked: TypeAlias = AttributeFilter | LastN | None  # None: all transactions of the days


@record
class Value:
    """A measure over the days of a side, of the group of each row.

    `stated` says in which rows it is shown, where incomplete windows are left blank.
    """

    view: View
    measure: Measure
    group: ManyInts
    side: Side
    picked: Picked = None
    stated: ManyFlags | None = None


@record
class Mean:
    """The mean of several values, blank where one is."""

    values: tuple[Value, ...]


@record
class DayMatching(Record):
    """How the days of two sides meet: as dates moved back, as workdays, or as many days in."""

    how: Literal["date", "workday", "days in"]
    back: Amount | None = None


@record
class Change:
    """A value less the one before, blank unless comparable; as a `ratio`, over its size."""

    now: Value
    before: Value | Mean
    comparable: Flags
    ratio: bool
    pairing: DayMatching | None


TracedNumber: TypeAlias = Value | Mean | Change


def value_of(number: TracedNumber) -> Value:
    """Return the (first) value that a number is made of."""
    match number:
        case Value():
            return number
        case Mean():
            return number.values[0]
        case Change():
            return number.now
        case _:
            assert_never(number)


@record
class ViewLineage(Lineage):
    """The answer of one view.

    `numbers` has what is behind columns, `group` the group of each row, `picked` for each row of
    the table its place in the arrays of both (None: it has all rows, in order), `totals` which of
    these places are totals.
    """

    asked: Query
    view: View
    group: NDArray[Any] | TiledArray
    numbers: Mapping[str, TracedNumber]
    picked: Ints | None = None
    total: ManyFlags | None = None

    @cached_property
    def rows(self) -> Ints:
        """The place of each row of the table among those of `group`."""
        return np.arange(len(self.group)) if self.picked is None else self.picked

    @property
    def question(self) -> Query:
        """The question."""
        return self.asked

    @cached_property
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""
        return tuple(self.view.groups.names)

    @property
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""
        return tuple(measure.name for measure in self.view.facts.measures)

    @property
    def others(self) -> Flags | None:
        """Which rows are of the group of all those not picked."""
        others = self.view.others
        return None if others is None else others[self.group[self.rows]]

    @property
    def calendar(self) -> Calendar:
        """The calendar of all rows."""
        return self.view.calendar

    @property
    def totals(self) -> Ints:
        """The rows that are totals."""
        return np.flatnonzero(np.zeros(0) if self.total is None else self.total[self.rows])

    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places. `places` is `(n_rows,)`."""
        return replace(self, picked=self.rows[places])

    def number(self, row: int, name: str) -> tuple[TracedNumber, int]:
        """Return what is behind a column, and the place of a row in its arrays."""
        return self.numbers[name], int(self.rows[row])


@record
class InParts(Lineage):
    """The answers of several views set together: each row is a row of one of them."""

    parts: Sequence[ViewLineage]
    part: Ints
    rows: Ints

    @classmethod
    def of(cls, parts: Sequence[ViewLineage]) -> InParts:
        """Return answers one below the other."""
        counts = [len(part.rows) for part in parts]
        rows = np.concatenate([np.arange(count) for count in counts])
        return cls(parts, np.repeat(np.arange(len(parts)), counts), rows)

    @property
    def question(self) -> Query:
        """The question, which is one for all."""
        return self.parts[0].question

    @property
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""
        return self.parts[0].by

    @property
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""
        return self.parts[0].measures

    @property
    def others(self) -> Flags | None:
        """Which rows are of the groups of all those not picked, where parts have such."""
        flags = np.zeros(len(self.rows), bool)
        for number, part in enumerate(self.parts):
            if (others := part.others) is not None:
                mine = self.part == number
                flags[mine] = others[self.rows[mine]]
        return flags if flags.any() else None

    @property
    def calendar(self) -> None:
        """None: each part has its own."""
        return None

    @property
    def numbers(self) -> Mapping[str, TracedNumber]:
        """What is behind columns, as the first part has it."""
        return self.parts[0].numbers

    @property
    def totals(self) -> Ints:
        """The rows that are totals."""
        flags = np.zeros(len(self.rows), bool)
        for number, part in enumerate(self.parts):
            mine = self.part == number
            flags[mine] = np.isin(self.rows[mine], part.totals)
        return np.flatnonzero(flags)

    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places."""
        return replace(self, part=self.part[places], rows=self.rows[places])

    def number(self, row: int, name: str) -> tuple[TracedNumber, int]:
        """Return what is behind a column, and the place of a row in its arrays."""
        part: ViewLineage = self.parts[int(self.part[row])]
        return part.number(int(self.rows[row]), name)


@record
class AcrossLineage(Lineage):
    """The answers of every group and of all together, whose rows are side by side.

    `places` has for each column that of the answer `each` or `whole` that it is, and the number of
    its group, None for that of all; a group has `count` rows. `together` is the answer of all.
    """

    asked: Query
    each: ViewLineage
    whole: ViewLineage
    places: Mapping[str, tuple[int | None, str]]
    count: int
    rows: Ints
    together: Result
    down: tuple[str, ...] = ()  # group columns that are not across

    @property
    def question(self) -> Query:
        """The question."""
        return self.asked

    @property
    def by(self) -> tuple[str, ...]:
        """The names of the group columns that are not across."""
        return self.down

    @property
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""
        return self.whole.measures

    @property
    def others(self) -> None:
        """None: groups are columns."""
        return None

    @property
    def calendar(self) -> Calendar:
        """The calendar of all rows."""
        return self.whole.calendar

    @property
    def totals(self) -> Ints:
        """The rows that are totals: none."""
        return np.zeros(0, np.int64)

    @property
    def numbers(self) -> Mapping[str, TracedNumber]:
        """What is behind columns, as all groups together have it."""
        return {name: self.whole.numbers[own] for name, (_, own) in self.places.items()}

    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places."""
        return replace(self, rows=self.rows[places])

    def number(self, row: int, name: str) -> tuple[TracedNumber, int]:
        """Return what is behind a column, and the place of a row in its arrays."""
        group, own = self.places[name]
        at = int(self.rows[row])
        if group is None:
            return self.whole.number(at, own)
        return self.each.number(group * self.count + at, own)


Traceable: TypeAlias = ViewLineage | InParts | AcrossLineage
