"""`trace`: the days and rows behind one number, recalculated by another way."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property, partial
from typing import Any, Generic, TypeVar, assert_never

import numpy as np

from eptaro.core.calendars.days import Ints, as_dates
from eptaro.core.calendars.grain import whole_periods_in
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.tree import Node, Where
from eptaro.core.measures.measure import Measure
from eptaro.core.proof.plain import (
    beyond_floats,
    combine_terms,
    plain_measure_value,
    shown_plain,
    values_agree,
)
from eptaro.core.proof.reader import Reader
from eptaro.core.query.lineage import (
    AttributeFilter,
    Change,
    DayMatching,
    LastN,
    Mean,
    Traceable,
    TracedNumber,
    Value,
    ViewLineage,
    value_of,
)
from eptaro.core.query.view import View
from eptaro.core.results.column import Column, date_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Recap
from eptaro.errors import EptaroError, QuestionError, count_noun
from eptaro.record import record


def pairs_of(change: Change, pairing: DayMatching, row: int, reader: Reader) -> Result | None:
    """Return one row per day of a change's current side, with its counterpart.

    Columns: `date`, `weekday`, `prior_date`, `prior_weekday`, and for a measure that adds
    up its value on either day. Under the match rule a day of the current side meets the day
    moved back as a date, as many days or workdays from the prior side's start, or whole weeks
    before; days with no counterpart, and prior days without one, are alone in their pair. None
    where a side does not exist.
    """
    current = change.now.side.span(row)
    before = value_of(change.before).side.span(row)
    if current is None or before is None:
        return None
    view, measure = change.now.view, change.now.measure
    lo, hi = current.lo, current.hi
    now = np.arange(lo, hi + 1)
    prior = _counterparts_of_days(view, pairing, now, before)
    # Prior days that no current day meets are shown as well, alone, or the sums would not be seen
    # to add up.
    alone = np.setdiff1d(np.arange(before.lo, before.hi + 1), prior)
    now = np.concatenate([now, np.full(len(alone), -1)])
    has_now = np.arange(len(now)) <= hi - lo
    prior = np.concatenate([prior, alone])
    has_prior = (prior >= before.lo) & (prior <= before.hi)
    order = np.argsort(np.where(has_now, now - lo, prior - before.lo), kind="stable")
    now, prior, has_now, has_prior = now[order], prior[order], has_now[order], has_prior[order]
    columns = [
        date_column("date", now, has_now, "Day of the current side"),
        _weekdays("weekday", now, has_now),
        date_column("prior_date", prior, has_prior, "Its counterpart"),
        _weekdays("prior_weekday", prior, has_prior),
    ]
    if measure.additive_plane is not None:
        columns += [
            _daily_values(change, reader, now, has_now, measure.name),
            _daily_values(change, reader, prior, has_prior, f"{measure.name}_prior"),
        ]
    return Result(columns, {"verb": "pairs"})


def _counterparts_of_days(view: View, pairing: DayMatching, now: Ints, before: Span) -> Ints:
    """Return the counterpart of each day; one outside the prior side is none.

    `now` and the result are `(n_days,)`.
    """
    start = int(now[0])
    if pairing.how == "workday":
        workdays = view.facts.workdays
        nth = workdays.number(now) - workdays.number(now[:1])
        paired = workdays.day_at(workdays.number(np.array([before.lo])) + nth)
        return np.where(workdays.is_workday(now), paired, before.lo - 1)
    if pairing.back is None:
        return now - start + before.lo
    moved, clamped = view.calendar.move_days(now, -pairing.back.n, pairing.back.unit)
    # The 29th to the 31st all lead to 28 February: it is paired once, with the first of them.
    meets_again = np.append(False, moved[1:] == moved[:-1])
    return np.where(clamped & meets_again, before.lo - 1, moved)


def _weekdays(name: str, days: Ints, keep: Any) -> Column:
    """Return the names of the weekdays of days `(n_days,)`, blank where not kept."""
    words = [day.strftime("%A") for day in as_dates(np.where(keep, days, 0)).tolist()]
    return Column.text(
        name, np.array(words), np.where(keep, np.arange(len(days)), -1), description="Its weekday"
    )


def _daily_values(change: Change, reader: Reader, days: Ints, keep: Any, name: str) -> Column:
    """Return the measure on each day, straight from the transactions.

    `days` and `keep` are `(n_days,)`.
    """
    view, measure = change.now.view, change.now.measure
    one = np.zeros(1, np.int64)
    like = view.value(measure, one, one + view.coverage.lo, one + view.coverage.lo)
    totals, there_is = [], list[bool]()
    for day, there in zip(days.tolist(), keep.tolist(), strict=True):
        hit = reader.on_days(Span.of(day, day)) if there else np.zeros(0, np.int64)
        value = plain_measure_value(
            measure.terms,
            reader.rows(hit, measure.terms),
            formula=None if measure.arithmetic is None else measure.arithmetic.node,
        )
        there_is.append(there and value is not None)
        number = value or 0
        totals.append(float(number) if like.kind == "float" else int(number * 10**like.scale))
    return Column.of(
        name,
        like.kind,
        totals,
        np.array(there_is, bool),
        scale=like.scale,
        description=f"{measure.formula} on that day",
    )


@record
class TracedSide:
    """One span of days behind a number: its transactions and their result.

    `seen` is the part of the span that is known, None where there is none; `blanks` counts
    the transactions without a value; `which` says how they are picked, where days are not all.
    In a set of books `parts` has each calculation on the rows of one of them, its `table`.
    """

    name: str
    span: Span
    seen: Span | None
    rows: tuple[int, ...] = field(repr=False)
    value: Any
    places: int = 0
    blanks: int = 0
    which: str = ""
    parts: tuple[TracedSide, ...] = ()
    table: str = ""

    def lines(self) -> list[str]:
        """Return the side in words."""
        lines = [
            f"{self.name}: {self.span.first:%A} {self.span.first} to "
            f"{self.span.last:%A} {self.span.last}, {self.span.days:,} days",
            f"  {count_noun(len(self.rows), 'transaction')}: "
            f"{shown_plain(self.value, self.places)}",
        ]
        if self.parts:
            lines[1:] = [
                f"  {part.name}:{line}" for part in self.parts for line in part.lines()[1:]
            ]
            return [*lines, f"  together: {shown_plain(self.value, self.places)}"]
        if self.blanks:
            lines.append(f"  {self.blanks:,} of them have no value and are ignored")
        if self.which:
            lines.insert(1, f"  of these {self.which}")
        if self.seen is None:
            lines.insert(1, "  outside the coverage: blank")
        elif self.seen != self.span:
            lines.insert(1, f"  of these only {self.seen} are covered")
        return lines


Paired = TypeVar("Paired", bound=Result)


@dataclass(frozen=True, eq=False)
class Trace(Generic[Paired]):
    """What is behind one number: definition, sides, and whether it was found again.

    `rows` are the places of the transactions in the input, from 1. `pairs` sets a
    comparison's days beside their counterparts, one row per day, where days have such.

    Parameters
    ----------
    column : str
        The number's column.
    definition : str
        What it is.
    group : dict
        The group values of its row.
    result : number or None
        What the table says.
    plain : number or None
        The value calculated from the transactions.
    agrees : bool
        Whether the two are the same.
    sides : tuple of TracedSide
        The spans of days, with their transactions.
    notes : tuple of str
        What was left out.
    pairing : function, optional
        Makes `pairs`.

    Examples
    --------
    >>> import eptaro as ep
    >>> data = {"on": ["2025-01-30", "2025-01-31"], "fare": [7, 5]}
    >>> book = ep.Daybook(data, date="on", measures={"revenue": "sum(fare)"})
    >>> trace = book.recap("month").trace(0, "revenue")
    >>> trace.agrees, trace.rows, int(trace.plain)
    (True, (1, 2), 12)
    """

    column: str
    definition: str
    group: dict[str, Any]
    result: Any
    plain: Any
    agrees: bool
    sides: tuple[TracedSide, ...]
    notes: tuple[str, ...]
    pairing: Callable[[], Paired | None] | None = field(default=None, repr=False)

    @property
    def rows(self) -> tuple[int, ...]:
        """The transactions of all sides; `tables` says which book of a set each is of."""
        return tuple(row for part in self._parts for row in part.rows)

    @property
    def tables(self) -> tuple[str, ...]:
        """The book of a set that each of `rows` is of, without a name where there is one book."""
        return tuple(part.table for part in self._parts for _ in part.rows)

    @property
    def _parts(self) -> tuple[TracedSide, ...]:
        return tuple(part for side in self.sides for part in side.parts or (side,))

    @cached_property
    def pairs(self) -> Paired | None:
        """The days of a comparison's two sides, each beside its counterpart."""
        return None if self.pairing is None else self.pairing()

    def __str__(self) -> str:
        of = ", ".join(f"{name} {value}" for name, value in self.group.items())
        verdict = (
            "the same, calculated independently" if self.agrees else "NOT the number in the table"
        )
        lines = [f"{self.column}" + (f" of {of}" if of else "") + f": {self.definition}"]
        for side in self.sides:
            lines += side.lines()
        places = self.sides[0].places
        shown_value = shown_plain(self.result)
        lines.append(
            f"table: {shown_value}; "
            f"straight from the transactions: {shown_plain(self.plain, places)}: {verdict}"
        )
        return "\n".join([*lines, *self.notes])


def trace(table: Result, row: int, name: str) -> Trace[Result]:
    """Return what is behind one number of a verb's table.

    The value is recalculated straight from the transactions in date order, one by
    one, exactly. Raises `QuestionError` for a row or column that is not there, or a number
    that has no days of its own (a share, a rank).
    """
    if not 0 <= row < len(table):
        raise QuestionError(f"there is no row {row}; the table has rows 0 to {len(table) - 1}")
    column = table.column(name)
    number, at = _number_at(table, row, name)
    value = value_of(number)
    view, group = value.view, int(value.group[at])
    tables = {table for value in _values_behind(number) for table in value.measure.tables}
    readers = {table: Reader(view.table(table), group) for table in sorted(tables)}
    sides = [_trace_side(value, readers, at) for value in _values_behind(number)]
    # From here on nothing of the fold is used: the proof must not share its mistakes.
    plain = _combine_sides(number, sides, at)
    result = column.take(np.array([row])).to_list()[0]
    exact = column.kind != "float"
    pairing = None
    if isinstance(number, Change) and number.pairing:
        own = readers[value.measure.term.table]
        pairing = partial(pairs_of, number, number.pairing, at, own)
    return Trace(
        name,
        column.description or value.measure.formula,
        {c.name: c.to_list()[0] for c in view.groups.columns(np.array([group]))},
        result,
        plain,
        values_agree(result, plain, exact=exact, sides=_compared_values(number, sides)),
        tuple(sides),
        _notes(view, readers, number, at),
        pairing,
    )


def _number_at(table: Result, row: int, name: str) -> tuple[TracedNumber, int]:
    """Return what is behind a number, and its place in the arrays of that."""
    answer = table.answer
    if not isinstance(answer, Traceable) or not answer.numbers:
        raise QuestionError("this table has no transactions behind it that could be traced")
    if name not in answer.numbers:
        values = [n for n, number in answer.numbers.items() if isinstance(number, Value)]
        raise QuestionError(f"{name!r} is not a measure; trace one of {', '.join(values)}")
    return answer.number(row, name)


def _values_behind(number: TracedNumber) -> tuple[Value, ...]:
    """Return the values that a number is made of."""
    match number:
        case Value():
            return (number,)
        case Mean():
            return number.values
        case Change():
            return (number.now, *_values_behind(number.before))
        case _:
            assert_never(number)


def _trace_side(value: Value, readers: Mapping[str, Reader], row: int) -> TracedSide:
    """Return one side: which transactions lie in its days, and their result."""
    if value.view.tables:
        return _side_of_books(value, readers, row)
    reader = readers[""]
    name, span = value.side.name, value.side.span(row)
    if span is None:
        raise QuestionError(f"the {name} of this row does not exist; there is nothing to trace")
    covered = span.overlap(value.view.coverage_of(int(value.group[row])))
    if covered is None:
        return TracedSide(name, span, None, (), None)
    hit, which, by_entry = reader.on_days(covered), "", False
    bearing_values: dict[str, str] = {}
    match value.picked:
        case AttributeFilter() as bearers:
            bearing_values = bearers.values_of_row(row)
            hit = reader.bearing(covered, bearing_values)
            conditions = " and the ".join(
                f"{name} is {word}" for name, word in bearing_values.items()
            )
            which = f"the ones whose {conditions}"
        case LastN(back):
            hit, which = reader.last_entries(back.n, covered.last), f"the last {back}"
            by_entry = True
        case None:
            pass
        case other:
            assert_never(other)

    def units(grain: str) -> list[tuple[int, int]]:
        periods = reader.units(grain, covered)
        bearing = (
            set(reader.days_bearing(covered, bearing_values)) if bearing_values else set(periods)
        )
        return [unit for unit in periods if unit in bearing]

    terms = value.measure.terms
    condition = _condition(value.measure)
    if condition is not None:
        hit = reader.meeting(condition, hit)
        which = f"{which}, {condition}" if which else f"the ones where {condition}"
    rows = reader.rows(hit, terms, by_entry=by_entry)
    formula = value.measure.arithmetic
    node = None if formula is None else formula.node
    plain = plain_measure_value(terms, rows, units, node, reader.balances, (covered.lo, covered.hi))
    others = {name: word for name, word in bearing_values.items() if name != "hour"}
    # A sum over no days is blank, not zero.
    if others and not reader.days_bearing(covered, others):
        plain = None  # its group has no such day
    column = next((part.column for term in terms for part in term.parts), "")
    values = rows.columns.get(column)
    blanks = len(values.items) - len(values.filled_values()) if values else 0
    places = tuple(reader.row_numbers(hit).tolist())
    return TracedSide(
        name, span, covered, places, plain, values.scale if values else 0, blanks, which
    )


def _side_of_books(value: Value, readers: Mapping[str, Reader], row: int) -> TracedSide:
    """Return one side of a set: each calculation on the rows of its book, and their result."""
    span = value.side.span(row)
    if span is None:
        raise QuestionError(
            f"the {value.side.name} of this row does not exist; there is nothing to trace"
        )
    views = {name: value.view.table(name) for name in value.measure.tables}
    lo, hi = np.array([span.lo]), np.array([span.hi])
    for view in views.values():
        own = view.coverage_of(int(value.group[row]))
        lo, hi = np.maximum(lo, own.lo), np.minimum(hi, own.hi)
    # Data by the month counts in whole months: a part of one is not known, for any book.
    for view in views.values():
        lo, hi = whole_periods_in(lo, hi, view.facts.folded.grain)
    common = Span.of(int(lo[0]), int(hi[0])) if lo[0] <= hi[0] else None
    parts = []
    for term in value.measure.terms:
        measure = Measure(str(term), term._replace(table=""))
        view = views[term.table]
        if common is None:
            parts.append(TracedSide(str(term), span, None, (), None))
            continue
        one = replace(value, view=replace(view, coverage=common), measure=measure)
        side = _trace_side(one, {"": readers[term.table]}, row)
        parts.append(replace(side, name=str(term), table=term.table))
    formula = value.measure.arithmetic
    value_of_side = combine_terms(
        value.measure.terms,
        [part.value for part in parts],
        None if formula is None else formula.node,
    )
    rows = tuple(place for part in parts for place in part.rows)
    value_of_side = None if common is None else value_of_side
    places = parts[0].places
    return TracedSide(
        value.side.name, span, common, rows, value_of_side, places, parts=tuple(parts)
    )


def _condition(measure: Measure) -> Node | None:
    """Return the condition on the rows of a measure of one term that has one."""
    if len(measure.terms) > 1 or measure.arithmetic or not measure.term.formula:
        return None
    node = measure.term.formula.node
    return node.condition if isinstance(node, Where) else None


def _combine_sides(number: TracedNumber, sides: list[TracedSide], row: int) -> Any:
    """Return the result of the sides: one value, the mean of several, a change or its ratio."""
    if len(sides) > 1 and any(beyond_floats(side.value) for side in sides):
        return None
    match number:
        case Value():
            return sides[0].value if _is_shown(number, row) else None
        case Mean():
            return _mean_of_days(sides)
        case Change():
            now, before = sides[0].value, _mean_of_days(sides[1:])
            if not number.comparable[row] or now is None or before is None:
                return None
            if not number.ratio:
                return now - before
            return None if not before else (now - before) / abs(before)
        case _:
            assert_never(number)


def _is_shown(number: TracedNumber, row: int) -> bool:
    """Return whether a row shows its value; an incomplete window may be left blank."""
    return not isinstance(number, Value) or number.stated is None or bool(number.stated[row])


def _compared_values(number: TracedNumber, sides: list[TracedSide]) -> list[Any]:
    """Return the values that a change is between, or what they are of the prior one; none for
    a number that is no change.
    """
    if not isinstance(number, Change):
        return []
    values = [side.value for side in sides if side.value is not None]
    if number.ratio:
        return [value / abs(values[1]) for value in values] if values[1:] and values[1] else []
    return values


def _mean_of_days(sides: list[TracedSide]) -> Any:
    values = [side.value for side in sides]
    if len(values) == 1:
        return values[0]
    if any(value is None for value in values):
        return None
    return sum((Fraction(value) for value in values), Fraction(0)) / len(values)


def _notes(
    view: View, readers: Mapping[str, Reader], number: TracedNumber, row: int
) -> tuple[str, ...]:
    """Return what was left out or blank, and why."""
    notes = [] if _is_shown(number, row) else ["left blank: the window is not complete"]
    for name, reader in readers.items():
        own, of = view.table(name), f" of {name}" if name else ""
        if late := reader.late:
            notes.append(f"left out: {late:,} transactions{of} after {own.coverage.last}")
        if rejected := own.facts.folded.rejected_rows:
            count = count_noun(rejected, "row")
            notes.append(f"left out: {count}{of} without a readable date")
    return tuple(notes)


def prove(table: Result, sample: int = 40, seed: int = 0) -> int:
    """Trace a random sample of a table's rows, and its totals; return how many numbers agreed.

    Raises `EptaroError` with the whole trace where one disagrees, `QuestionError` where
    the table cannot be traced at all.
    """
    answer = table.answer
    if not isinstance(answer, Traceable) or not answer.numbers:
        raise QuestionError("this table has no transactions behind it that could be traced")
    refused = QuestionError("the table shows no measure that could be traced")
    names = [name for name in table.names if name in answer.numbers]
    rng = np.random.default_rng(seed)
    sampled = rng.integers(0, max(len(table), 1), sample).tolist()
    agreed = 0
    for row in sorted({len(table) - 1, *sampled, *answer.totals.tolist()}):
        for name in names:
            try:
                proof = trace(table, row, name)
            except QuestionError as error:
                refused = error
                continue
            if not proof.agrees:
                raise EptaroError(f"row {row} was not found again: {proof}")
            agreed += 1
    if not agreed:
        raise refused
    return agreed + _check_shares(table, answer, names)


def _check_shares(table: Result, answer: Traceable, names: list[str]) -> int:
    """Calculate the shares and indexes of a whole recap again, from its values alone; return how
    many agreed.

    Raises `EptaroError` where one does not.
    """
    query = answer.question
    if not isinstance(answer, ViewLineage) or not isinstance(query, Recap) or query.wide:
        return 0
    if len(answer.rows) < len(answer.group) or answer.others is not None:
        return 0  # of some rows the whole is not at hand
    agreed = 0
    totals = set(answer.totals.tolist())
    parts = [row for row in range(len(table)) if row not in totals and _is_part(query, table, row)]
    groups = answer.group[answer.rows].tolist()
    for name in names:
        values = _fractions(table, name)
        if f"{name}_share" in table:
            whole = sum((v for row in parts if (v := values[row]) is not None), Fraction(0))
            shares = [None if v is None or not whole else v / whole for v in values]
            agreed += _all_agree(table, f"{name}_share", shares)
        if f"{name}_index" in table and query.index is not None:
            labels = table.column("period").to_list()
            base = {groups[row]: values[row] for row in parts if labels[row] == query.index}
            words = table.column(f"{name}_index").blank.tolist()
            expected = [
                None if skip or v is None or not (under := base.get(group)) else 100 * v / under
                for v, group, skip in zip(values, groups, words, strict=True)
            ]
            agreed += _all_agree(table, f"{name}_index", expected)
    return agreed


def _is_part(query: Recap, table: Result, row: int) -> bool:
    """Return whether a row is of the level that was asked for, and no subtotal."""
    return not query.subtotal_levels or table.column("level").to_list()[row] == query.per


def _fractions(table: Result, name: str) -> list[Fraction | None]:
    column = table.column(name)
    blank = column.blank.tolist()
    return [None if blank[row] else column.fraction(row) for row in range(len(table))]


def _all_agree(table: Result, name: str, expected: list[Fraction | None]) -> int:
    """Return how many values of a column agree; raises `EptaroError` for one that does not."""
    values = table.column(name).to_list()
    for row, (one, two) in enumerate(zip(values, expected, strict=True)):
        if (one is None) != (two is None) or (
            one is not None and two is not None and not math.isclose(one, two, abs_tol=1e-12)
        ):
            raise EptaroError(f"row {row}, {name}: the table has {one}, its values give {two}")
    return len(values)
