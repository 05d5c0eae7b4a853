"""`trace`: the days and rows behind one number, worked out again by another way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property, partial
from typing import Any

import numpy as np

from eptaro.core.calendars.amount import Reach
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.proof.pairs import pairs_of
from eptaro.core.proof.plain import agrees, plain_value, shown
from eptaro.core.proof.reader import Reader
from eptaro.core.questions.view import View
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError, unknown

ENDINGS = ("", "_to_date", "_trailing", "_change_ratio", "_change", "_prior")


@dataclass(frozen=True, eq=False)
class Side:
    """One span of days behind a number: its transactions and what they come to.

    `seen` is the part of the span that is known, None where there is none; `blanks` counts
    the transactions without a value; `which` says what tells them where it is not days alone.
    """

    name: str
    span: Span
    seen: Span | None
    rows: tuple[int, ...]
    value: Any
    places: int = 0
    blanks: int = 0
    which: str = ""

    def lines(self) -> list[str]:
        """Return the side in words."""
        found = [
            f"{self.name}: {self.span.first:%A} {self.span.first} to "
            f"{self.span.last:%A} {self.span.last}, {self.span.days:,} days",
            f"  {len(self.rows):,} transactions come to {shown(self.value, self.places)}",
        ]
        if self.blanks:
            found.append(f"  {self.blanks:,} of them have no value and count for nothing")
        if self.which:
            found.insert(1, f"  of these {self.which}")
        if self.seen is None:
            found.insert(1, "  wholly outside the days that are known: blank")
        elif self.seen != self.span:
            found.insert(1, f"  of these only {self.seen} are known")
        return found


@dataclass(frozen=True, eq=False)
class Trace:
    """What stands behind one number: definition, sides, and whether it was found again.

    `rows` are the places of the transactions in the input, from 1. `pairs` sets a
    comparison's days beside their counterparts, one row per day, where days have such.
    """

    column: str
    definition: str
    group: dict[str, Any]
    result: Any
    plain: Any
    agrees: bool
    sides: tuple[Side, ...]
    notes: tuple[str, ...]
    pairing: Callable[[], Table | None] = lambda: None

    @property
    def rows(self) -> tuple[int, ...]:
        """The transactions of all sides."""
        return tuple(row for side in self.sides for row in side.rows)

    @cached_property
    def pairs(self) -> Table | None:
        """The days of a comparison's two sides, each beside its counterpart."""
        return self.pairing()

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
    one, exactly. Raises `QuestionError` for a row or column that is not there, or a number
    that has no days of its own (a share, a rank).
    """
    if not 0 <= row < len(table):
        raise QuestionError(f"there is no row {row}; the table has rows 0 to {len(table) - 1}")
    record = {column.name: column.take(np.array([row])).to_list()[0] for column in table.columns}
    measure, ending = _measure(view, table, name)
    reader = Reader(view, record)
    sides = [
        _side(view, reader, table, measure, record, side, span)
        for side, span in _spans(view, table, record, ending)
    ]
    plain = _combined(ending, sides, record)
    exact = table.column(name).kind != "float"
    pairing = partial(pairs_of, view, reader, table, record, measure)
    return Trace(
        name,
        table.column(name).description or measure.formula,
        {g: record[g] for g in view.groups.names},
        record[name],
        plain,
        agrees(record[name], plain, exact=exact, sides=_compared(ending, sides)),
        tuple(sides),
        _notes(view, reader),
        pairing if len(sides) > 1 else lambda: None,
    )


def _measure(view: View, table: Table, name: str) -> tuple[Measure, str]:
    """Return the measure that a column shows, and the ending that says how."""
    measures = {measure.name: measure for measure in view.facts.measures}
    if name not in table:
        raise QuestionError(unknown("column", name, table.names))
    for ending in ENDINGS:
        if name.endswith(ending) and (stem := name.removesuffix(ending)) in measures:
            return measures[stem], ending
    raise QuestionError(f"{name!r} is no measure; trace one of {', '.join(measures)}")


def _spans(
    view: View, table: Table, record: dict[str, Any], ending: str
) -> list[tuple[str, Span | None]]:
    """Return the sides that a number stands on: their names and days."""
    verb = table.meta.get("verb")
    if verb == "compare":
        now = [("current side", _span(record["first"], record["last"]))]
        prior = [("prior side", _span(record["prior_first"], record["prior_last"]))]
        if record.get("prior_spans"):
            listed = record["prior_spans"].split(", ")
            prior = [(f"prior side {i}", Span.parse(s)) for i, s in enumerate(listed, 1)]
        return {"": now, "_prior": prior}.get(ending, [*now, *prior])
    if verb == "accumulate" and not ending:
        if "date" in record:
            return [("day", _span(record["date"], record["date"]))]
        running = _span(record["first"], record["last"])
        own = view.calendar.period(record["period"]).span
        return [("days", running.overlap(own) if running else None)]
    if "first" not in record:
        return [("days", view.seen)]
    return [("days", _span(record["first"], record.get("last", record.get("date"))))]


def _span(first: Any, last: Any) -> Span | None:
    return None if first is None or last is None else Span(first, last)


def _side(
    view: View,
    reader: Reader,
    table: Table,
    measure: Measure,
    record: dict[str, Any],
    name: str,
    span: Span | None,
) -> Side:
    """Return one side: which transactions lie in its days, and what they come to."""
    if span is None:
        raise QuestionError(f"the {name} of this row does not exist; there is nothing to trace")
    seen = span.overlap(view.coverage)
    if seen is None:
        return Side(name, span, None, (), None)
    hit, which, by_entry = reader.on_days(seen), "", False
    wanted = _wanted(table, record)

    def units(grain: str) -> list[tuple[int, int]]:
        found = reader.units(grain, seen)
        bearing = set(reader.days_bearing(seen, wanted)) if wanted else set(found)
        return [unit for unit in found if unit in bearing]

    if wanted:
        hit = reader.bearing(seen, wanted)
        said = " and the ".join(f"{name} is {word}" for name, word in wanted.items())
        which = f"the ones whose {said}"
    elif str(table.meta.get("back")).endswith(("entry", "entries")):
        back = Reach.parse(table.meta["back"], "back")
        hit, which = reader.last_entries(back.n, seen.last), f"the last {back}"
        by_entry = True
    rows = reader.rows(hit, measure, by_entry=by_entry)
    value = plain_value(measure.terms, rows, units)
    column = next((one.column for term in measure.terms for one in (term.inner or term,)), "")
    values = rows.columns.get(column)
    blanks = len(values.items) - len(values.filled()) if values else 0
    places = tuple((np.sort(hit) + 1).tolist())
    return Side(name, span, seen, places, value, values.scale if values else 0, blanks, which)


def _wanted(table: Table, record: dict[str, Any]) -> dict[str, str]:
    """Return the attributes that tell a row apart, and its values; none where days do."""
    if table.meta.get("verb") not in ("recap", "rhythm") or "first" in record or "row" in record:
        return {}
    names = [table.meta["per"], table.meta.get("across")]
    return {name: record[name.replace(" ", "_")] for name in names if name}


def _combined(ending: str, sides: list[Side], record: dict[str, Any]) -> Any:
    """Return what the sides come to: one value, the mean of several, a change or its ratio."""
    if ending == "_prior":
        return _mean(sides)
    if ending not in ("_change", "_change_ratio"):
        return sides[0].value
    now, before = sides[0].value, _mean(sides[1:])
    if not record["comparable"] or now is None or before is None:
        return None
    change = now - before
    if ending == "_change":
        return change
    return None if not before else change / abs(before)


def _compared(ending: str, sides: list[Side]) -> list[Any]:
    """Return the values that a change is between, or what they are of the prior one; none for
    a number that is no change.
    """
    values = [side.value for side in sides if side.value is not None]
    if ending == "_change_ratio" and values[1:] and values[1]:
        return [value / abs(values[1]) for value in values]
    return values if ending == "_change" else []


def _mean(sides: list[Side]) -> Any:
    values = [side.value for side in sides]
    if len(values) == 1:
        return values[0]
    if any(value is None for value in values):
        return None
    return sum((Fraction(value) for value in values), Fraction(0)) / len(values)


def _notes(view: View, reader: Reader) -> tuple[str, ...]:
    """Return what was left out, and why."""
    found = []
    if late := reader.late:
        found.append(f"left out: {late:,} transactions after {view.coverage.last}")
    aside = view.facts.folded.aside
    if aside is not None and len(aside):
        found.append(f"left out: {len(aside):,} rows without a readable date")
    return tuple(found)
