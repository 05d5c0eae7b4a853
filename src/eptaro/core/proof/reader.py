"""Finding the transactions behind a number, through an index of the rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from fractions import Fraction
from functools import lru_cache
from typing import Any

import numpy as np

from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Ints, as_date, ordinal
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.expressions.interpreter import plain_value
from eptaro.core.expressions.parser import Formula
from eptaro.core.expressions.tree import Name, Node, names_in
from eptaro.core.measures.term import Members, Term
from eptaro.core.proof.plain import OF_ANY_KIND, PlainValues, Rows, column_of
from eptaro.core.query.by_attribute import hours_of
from eptaro.core.query.transactions import Index
from eptaro.core.query.view import View
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.errors import EptaroError

_LEVEL = {"month of year": "month", "quarter of year": "quarter", "week of year": "week"}


class Reader:
    """The transactions of one group of a view."""

    def __init__(self, view: View, group: int) -> None:
        self._view, self._index = view, Index.of(view.facts)
        self._groups = np.flatnonzero(view.places == group)
        self._known_postings: dict[Members, list[tuple[Any, Any, int]]] = {}

    @property
    def late(self) -> int:
        """How many come after the last day looked at."""
        return len(self._index.rows(self._groups, self._view.coverage.hi + 1, LAST_DAY))

    def on_days(self, span: Span) -> Ints:
        """Return the transactions of a span of days, in order."""
        return self._index.rows(self._groups, span.lo, span.hi)

    def last_entries(self, n: int, until: dt.date) -> Ints:
        """Return the last n transactions up to a day."""
        return self._index.rows(self._groups, FIRST_DAY, ordinal(until))[-n:]

    def bearing(self, span: Span, values: dict[str, str]) -> Ints:
        """Return the transactions whose day (and hour) bears the wanted value of attributes."""
        others = {name: word for name, word in values.items() if name != "hour"}
        hit = self.on_days(span)
        if others:
            positions = [self.on_days(Span.of(*day)) for day in self.days_bearing(span, others)]
            hit = np.concatenate([*positions, np.zeros(0, np.int64)]).astype(np.int64)
        if "hour" in values:
            hours = hours_of(self._index.batch)
            hit = hit[np.array([hour == int(values["hour"]) for hour in hours[hit].tolist()], bool)]
        return hit

    def days_bearing(self, span: Span, values: dict[str, str]) -> list[tuple[int, int]]:
        """Return the days of a span that bear the wanted values, each as a span of its own."""
        return [
            (ordinal(day), ordinal(day))
            for day in _dates(span)
            if all(_bears(self._view, name, word, day) for name, word in values.items())
        ]

    def rows(self, hit: Ints, terms: Sequence[Term], *, by_entry: bool = False) -> Rows:
        """Return what a measure needs of some transactions, as plain values.

        `hit`, the places of transactions, is `(n,)`.

        Taken `by_entry`, their order in the input is meant, whichever group they are of.
        """
        columns = dict[str, PlainValues]()
        rowwise = [part for term in terms for part in ((term,) if term.members else term.parts)]
        for term in rowwise:
            if term.members is not None:
                columns |= self._members(term.members, hit)
            elif term.how == "new":
                columns[column_of(term)] = self._never_before(term, hit)
            elif term.column:
                columns[term.column] = self._of(term, hit)
            if term.how == "sum" and term.rows_met is not None:
                columns[term.rows_met.name] = self._evaluate_rows(term.rows_met, hit)
        days = self._index.batch.days[hit].tolist()
        if by_entry or len(self._groups) < 2:
            return Rows(days, columns)
        times = self._index.batch.times
        moments = days if times is None else [*zip(days, times[hit].tolist(), strict=True)]
        return Rows(days, columns, moments, self._index.owners[hit].tolist())

    def meeting(self, condition: Node, hit: Ints) -> Ints:
        """Return those of some transactions for which a condition is true.

        `hit` is `(n,)`, the result no longer.
        """
        rows = self._plain_rows(names_in(condition), hit)
        rows_met: Ints = hit[np.array([plain_value(condition, row) is True for row in rows], bool)]
        return rows_met

    def row_numbers(self, hit: Ints) -> Ints:
        """Return the places of transactions in the input, from 1.

        `hit` and the numbers are `(n,)`.
        """
        places = self._index.batch.places
        numbers: Ints = np.sort(hit if places is None else places[hit]) + 1
        return numbers

    def _members(self, members: Members, hit: Ints) -> dict[str, PlainValues]:
        """Return whose each of some transactions is, and the values that are added up.

        `hit` is `(n,)`.
        """
        _, codes, values = members
        if isinstance(codes.node, Name):
            by_name = {codes.name: self._values(codes.name, "distinct", hit)}
        else:
            by_name = {codes.name: self._evaluate_rows(codes, hit)}
        return (
            by_name if values is None else by_name | {values.name: self._evaluate_rows(values, hit)}
        )

    def balances(self, term: Term, first: int, last: int) -> PlainValues:
        """Return the last value so far of each account whose last row is of the group: at the end
        of a span of days, or before it.
        """
        assert term.members is not None
        until = last if term.how == "closing" else first - 1
        count = int(np.searchsorted(self._index.days, until, "right"))
        by_owner = {
            owner: (value, number)
            for owner, value, number in self._postings(term.members)[:count]
            if owner is not None and value is not None
        }
        own = {*self._index.number_of[self._groups].tolist()}
        return PlainValues([value for value, number in by_owner.values() if number in own])

    def _postings(self, members: Members) -> list[tuple[Any, Any, int]]:
        """Return the account, the value and the group of every transaction, in order of time. They
        are kept, because the balances of many days need them.
        """
        if members not in self._known_postings:
            _, codes, amounts = members
            assert amounts is not None
            every = np.arange(self._view.facts.groups.count)
            hit = self._index.rows(every, FIRST_DAY, LAST_DAY)
            columns = self._members(members, hit)
            owners, values = columns[codes.name].items, columns[amounts.name].items
            numbers = self._index.owners[hit].tolist()
            self._known_postings[members] = [*zip(owners, values, numbers, strict=True)]
        return self._known_postings[members]

    def _of(self, term: Term, hit: Ints) -> PlainValues:
        """Return the values of a term's column in some transactions. `hit` is `(n,)`."""
        if term.formula is not None:
            return self._evaluate_rows(term.formula, hit)
        return self._values(term.column, term.how, hit)

    def _never_before(self, term: Term, hit: Ints) -> PlainValues:
        """Return the values of some transactions, blank where the group had them before.

        `hit` is `(n,)`.
        """
        if not len(hit):
            return PlainValues([])
        last = int(self._index.batch.days[hit].max())
        if term.over_all:
            return self._new_to_all(term, hit, last)
        every = self._index.rows(self._groups, FIRST_DAY, last)
        before = every[: int(np.flatnonzero(every == hit[0])[0])]
        met = set(self._of(term, before).items)
        values = []
        for value in self._of(term, hit).items:
            values.append(None if value in met else value)
            met.add(value)
        return PlainValues(values)

    def _new_to_all(self, term: Term, hit: Ints, last: int) -> PlainValues:
        """Return the values of some transactions, blank where any group had them on an earlier day,
        or this group before on the same day.

        `hit` is `(n,)`.
        """
        every = self._index.rows(np.arange(self._view.facts.groups.count), FIRST_DAY, last)
        days = self._index.batch.days
        first: dict[Any, int] = {}
        for value, day in zip(self._of(term, every).items, days[every].tolist(), strict=True):
            first.setdefault(value, day)
        met, new_values = set[Any](), list[Any]()
        for value, day in zip(self._of(term, hit).items, days[hit].tolist(), strict=True):
            new_values.append(value if first[value] == day and value not in met else None)
            met.add(value)
        return PlainValues(new_values)

    def _evaluate_rows(self, formula: Formula, hit: Ints) -> PlainValues:
        """Return the result of a formula in each of some transactions, one by one.

        `hit` is `(n,)`.
        """
        values = [plain_value(formula.node, r) for r in self._plain_rows(formula.names, hit)]
        return PlainValues([int(value) if isinstance(value, bool) else value for value in values])

    def _plain_rows(self, names: Sequence[str], hit: Ints) -> list[dict[str, Any]]:
        """Return some columns of some transactions as plain values, row by row. `hit` is `(n,)`."""
        listed: dict[str, list[Any]] = {}
        for name in names:
            column = self._index.batch.inputs[name].take(hit)
            values = column.to_list()
            if column.kind in ("integer", "decimal"):
                values = [None if value is None else Fraction(value) for value in values]
            if name in self._index.batch.hours:
                hours = self._index.batch.hours[name].take(hit).to_list()
                values = [
                    day if hour is None else dt.datetime(day.year, day.month, day.day, hour)
                    for day, hour in zip(values, hours, strict=True)
                ]
            listed[name] = [None if value != value else value for value in values]
        every = zip(*listed.values(), strict=True) if listed else [()] * len(hit)
        return [dict(zip(listed, row, strict=True)) for row in every]

    def _values(self, column: str, how: str, hit: Ints) -> PlainValues:
        """Return the values of a column in some transactions; `hit` is `(n,)`."""
        if how in OF_ANY_KIND:
            coded: Categorical = self._index.batch.distinct[column]
            words = [*coded.choices.to_list(), None]
            return PlainValues([words[code] for code in coded.codes[hit].tolist()])
        column_of_hits: Column = self._index.batch.values[column].take(hit)
        items = (
            column_of_hits.to_list()
            if column_of_hits.kind in NO_NUMBERS
            else column_of_hits.data.tolist()
        )
        if column_of_hits.kind == "float":
            items = [item if item == item else None for item in items]
        if column_of_hits.valid is not None:
            items = [
                item if valid else None
                for item, valid in zip(items, column_of_hits.valid.tolist(), strict=True)
            ]
        return PlainValues(items, column_of_hits.scale)

    def units(self, grain: str, span: Span) -> list[tuple[int, int]]:
        """Return first and last day of each unit of a grain that lies wholly in a span."""
        if grain in ("day", "workday"):
            worked = self._view.facts.workdays
            return [
                (day, day)
                for day in range(span.lo, span.hi + 1)
                if grain == "day" or worked.count(Span.of(day, day))
            ]
        spans = []
        period: Period | None = self._view.calendar.period_of(span.first, grain)
        while period is not None and period.first <= span.last:
            if period.span in span:
                spans.append((period.span.lo, period.span.hi))
            period = period.shift(1)
        return spans


def _dates(span: Span) -> list[dt.date]:
    return [as_date(day) for day in range(span.lo, span.hi + 1)]


def _bears(view: View, attribute: str, word: str, day: dt.date) -> bool:
    """Return whether a day bears an attribute's value, determined by the calendar of dates."""
    match attribute:
        case "weekday":
            return Names().weekdays[day.weekday()] == word
        case "day of month":
            return day.day == int(word)
        case "week of month":
            return (day.day + 6) // 7 == int(word)
        case "day type":
            return _type_of(view.facts.workdays, day) == word
        case "workday":
            return (_type_of(view.facts.workdays, day) == "workday") == (word == "workday")
        case "holiday":
            on_holiday = any(holiday.day == day for holiday in view.facts.workdays.holidays)
            return on_holiday == (word == "holiday")
        case "month of year" if view.calendar.plain_months:
            return Names().months[day.month - 1] == word
        case "month of year" | "quarter of year" | "week of year":
            return _label_at(view.calendar, day, _LEVEL[attribute]).rsplit("-", 1)[1] == word
        case _:
            raise EptaroError(f"{attribute} cannot be proved: core/proof/reader.py has no rule")


@lru_cache(maxsize=1 << 16)  # many numbers are proved over the same days
def _type_of(workdays: Workdays, day: dt.date) -> str:
    if workdays.count(Span(day, day)):
        return "workday"
    return "weekend" if workdays.is_weekend(np.array([ordinal(day)]))[0] else "holiday"


@lru_cache(maxsize=1 << 16)
def _label_at(calendar: Calendar, day: dt.date, level: str) -> str:
    return calendar.period_of(day, level).label
