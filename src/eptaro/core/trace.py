"""`trace`: the days and rows behind one number, worked out again by another way."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from eptaro.core.column import Column
from eptaro.core.days import LAST_DAY
from eptaro.core.errors import EptaroError, QuestionError, unknown
from eptaro.core.facts import View
from eptaro.core.groups import Coded
from eptaro.core.ledger import Index
from eptaro.core.measures import Measure
from eptaro.core.plain import agrees, plain_value, shown
from eptaro.core.span import Span
from eptaro.core.table import Table

_SUFFIXES = ("_to_date", "_trailing", "_change_ratio", "_change", "_prior")


@dataclass(frozen=True, eq=False)
class Side:
    """One span of days behind a number: its transactions and what they come to."""

    name: str
    span: Span
    seen: Span | None
    rows: tuple[int, ...]
    value: Any
    places: int = 0

    def lines(self) -> list[str]:
        """Return the side in words."""
        found = [
            f"{self.name}: {self.span.first:%A} {self.span.first} to "
            f"{self.span.last:%A} {self.span.last}, {self.span.days:,} days",
            f"  {len(self.rows):,} transactions come to {shown(self.value, self.places)}",
        ]
        if self.seen is None:
            found.insert(1, "  wholly outside the days that are known: blank")
        elif self.seen != self.span:
            found.insert(1, f"  of these only {self.seen} are known")
        return found


@dataclass(frozen=True, eq=False)
class Trace:
    """What stands behind one number: definition, sides, and whether it was found again.

    `rows` are the places of the transactions in the input, from 1.
    """

    column: str
    definition: str
    group: dict[str, Any]
    result: Any
    plain: Any
    agrees: bool
    sides: tuple[Side, ...]
    notes: tuple[str, ...]

    @property
    def rows(self) -> tuple[int, ...]:
        """The transactions of all sides."""
        return tuple(row for side in self.sides for row in side.rows)

    def __str__(self) -> str:
        of = ", ".join(f"{name} {value}" for name, value in self.group.items())
        verdict = "the same, worked out apart" if self.agrees else "NOT what the table says"
        lines = [f"{self.column}" + (f" of {of}" if of else "") + f": {self.definition}"]
        for side in self.sides:
            lines += side.lines()
        places = self.sides[0].places
        said = "blank" if self.result is None else f"{self.result:,}"
        lines.append(
            f"table: {said}; straight from the transactions: {shown(self.plain, places)}: {verdict}"
        )
        return "\n".join([*lines, *self.notes])


def trace(table: Table, view: View, row: int, name: str) -> Trace:
    """Return what stands behind one number of a verb's table.

    The value is worked out again straight from the transactions in date order, one by
    one, with exact fractions. Raises `QuestionError` for a row or column that is not
    there, or a number that has no days of its own (a share, a rank).
    """
    if not 0 <= row < len(table):
        raise QuestionError(f"there is no row {row}; the table has rows 0 to {len(table) - 1}")
    record = {column.name: column.take(np.array([row])).to_list()[0] for column in table.columns}
    measure, suffix = _measure(view, table, name)
    if any(term.inner is not None for term in measure.terms):
        raise QuestionError(
            f"{measure.formula}: trace a plain measure; this one works in two stages"
        )
    reader = _Reader(view, record)
    sides = [
        reader.side(side, first, last, measure)
        for side, first, last in _spans(record, table, suffix)
    ]
    plain = _combined(suffix, sides, record)
    exact = table.column(name).kind != "float"
    group = {g: record[g] for g in view.groups.names}
    return Trace(
        name, table.column(name).description or measure.formula, group, record[name], plain,
        agrees(record[name], plain, exact=exact), tuple(sides), reader.notes(),
    )  # fmt: skip


def _measure(view: View, table: Table, name: str) -> tuple[Measure, str]:
    """Return the measure that a column shows, and the ending that says how."""
    measures = {measure.name: measure for measure in view.facts.measures}
    if name not in table:
        raise QuestionError(unknown("column", name, table.names))
    for ending in ("", *_SUFFIXES):
        if name.endswith(ending) and (stem := name.removesuffix(ending)) in measures:
            return measures[stem], ending
    raise QuestionError(f"{name!r} is no measure; trace one of {', '.join(measures)}")


def _spans(record: dict[str, Any], table: Table, suffix: str) -> list[tuple[str, Any, Any]]:
    """Return the sides that a number stands on: their names, first and last days."""
    verb = table.meta.get("verb")
    if verb == "compare":
        now = ("current side", record["first"], record["last"])
        prior = ("prior side", record["prior_first"], record["prior_last"])
        chosen = {"": [now], "_prior": [prior]}
        return chosen.get(suffix, [now, prior])
    if verb == "accumulate" and not suffix:
        if "date" not in record:
            raise QuestionError("the row's own days are not in the table; trace its _to_date value")
        return [("day", record["date"], record["date"])]
    if "first" not in record or ("per" in table.meta and verb == "recap"):
        raise QuestionError(f"a row of this {verb} is no run of days; it cannot be traced")
    return [("days", record["first"], record.get("last", record.get("date")))]


def _combined(suffix: str, sides: list[Side], record: dict[str, Any]) -> Any:
    if suffix not in ("_change", "_change_ratio"):
        return sides[0].value
    if not record["comparable"] or any(side.value is None for side in sides):
        return None
    change = sides[0].value - sides[1].value
    if suffix == "_change":
        return change
    return None if not sides[1].value else change / abs(sides[1].value)


class _Reader:
    """Finds the transactions of one group of a view, and their values."""

    def __init__(self, view: View, record: dict[str, Any]) -> None:
        self._view, self._index = view, Index.of(view)
        every = np.arange(view.groups.count)
        named = [column.to_list() for column in view.groups.columns(every)]
        wanted = [record[name] for name in view.groups.names]
        self._place = next(i for i in every.tolist() if [values[i] for values in named] == wanted)
        self._late = len(self._index.rows(self._place, view.coverage.hi + 1, LAST_DAY))

    def side(self, name: str, first: Any, last: Any, measure: Measure) -> Side:
        """Return one side: which transactions lie in its days, and what they come to."""
        if first is None or last is None:
            raise QuestionError(f"the {name} of this row does not exist; there is nothing to trace")
        span = Span(first, last)
        seen = span.overlap(self._view.coverage)
        if seen is None:
            return Side(name, span, None, (), None)
        hit = self._index.rows(self._place, seen.lo, seen.hi)
        columns = {
            term.column: self._values(term.column, term.how, hit)
            for term in measure.terms
            if term.column
        }
        value = plain_value(measure, columns, len(hit))
        places = 0
        if measure.term.column in self._index.batch.values:
            places = self._index.batch.values[measure.term.column].scale
        return Side(name, span, seen, tuple((np.sort(hit) + 1).tolist()), value, places)

    def _values(self, column: str, how: str, rows: Any) -> list[Any]:
        if how == "distinct":
            coded: Coded = self._index.batch.distinct[column]
            words = [*coded.choices.to_list(), None]
            return [words[code] for code in coded.codes[rows].tolist()]
        picked: Column = self._index.batch.values[column].take(rows)
        return [None if value is None or value != value else value for value in picked.to_list()]

    def notes(self) -> tuple[str, ...]:
        """Return what was left out, and why."""
        found = []
        if self._late:
            found.append(f"left out: {self._late:,} transactions after {self._view.coverage.last}")
        aside = self._view.facts.folded.aside
        if aside is not None and len(aside):
            found.append(f"left out: {len(aside):,} rows without a readable date")
        return tuple(found)


def prove(table: Table, measures: list[str], sample: int = 40, seed: int = 0) -> int:
    """Trace a random sample of a table's numbers, and the last row's; return how many agreed.

    Raises `EptaroError` with the whole trace where one disagrees, `QuestionError` where
    the table cannot be traced at all.
    """
    names = [name for name in table.names if _is_traceable(name, measures)]
    rng = np.random.default_rng(seed)
    rows = {len(table) - 1, *rng.integers(0, max(len(table), 1), sample).tolist()}
    agreed, refused = 0, None
    for row in sorted(rows):
        for name in names:
            try:
                found = table.trace(row, name)
            except QuestionError as error:
                refused = error
                continue
            if not found.agrees:
                raise EptaroError(f"row {row} was not found again: {found}")
            agreed += 1
    if not agreed and refused is not None:
        raise refused
    return agreed


def _is_traceable(name: str, measures: list[str]) -> bool:
    return any(name.removesuffix(ending) in measures for ending in ("", *_SUFFIXES))
