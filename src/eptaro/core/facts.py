"""`Facts`: folded transactions with what is needed to question them, and `View` of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeAlias

import numpy as np

from eptaro.core.calendar import Calendar
from eptaro.core.cells import Cells
from eptaro.core.column import Column
from eptaro.core.days import FIRST_DAY, LAST_DAY, DateLike, Flags, Ints, as_date, as_of_day, ordinal
from eptaro.core.errors import CalendarError, QuestionError
from eptaro.core.groups import Groups
from eptaro.core.measures import Measure, Plane, Term
from eptaro.core.period import Period
from eptaro.core.span import Span

By: TypeAlias = "str | Sequence[str] | None"
AsOf: TypeAlias = "DateLike | None"
Only: TypeAlias = "str | Span | Period | Mapping[str, Any] | Sequence[Any] | None"


@dataclass(frozen=True, eq=False)
class Facts:
    """Transactions folded to cells, with their calendar, coverage and measures."""

    groups: Groups
    cells: Cells
    measures: tuple[Measure, ...]
    calendar: Calendar
    coverage: Span
    rows: int
    source: str

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what one question looks at: groups, coverage up to the as-of date, window."""
        names = [by] if isinstance(by, str) else list(by or ())
        window, wanted = self._narrow(only)
        today = self.coverage.hi if as_of is None else self._as_of(as_of)
        if today < self.coverage.lo:
            raise QuestionError(
                f"as_of={as_date(today)} lies before the coverage {self.coverage}; "
                f"nothing is known by then"
            )
        coverage = Span.of(self.coverage.lo, today)
        cells, groups = self.cells, self.groups
        keep = np.ones(groups.count, bool)
        if wanted:
            keep = groups.matching(wanted)
        every = np.arange(groups.count)
        begin, stop = np.full(groups.count, FIRST_DAY), np.full(groups.count, coverage.hi + 1)
        keep &= cells.sums(Plane("rows"), every, begin, stop).data > 0
        if not keep.any():
            raise QuestionError(f"no transactions are left to look at in {coverage}")
        places = np.flatnonzero(keep)
        if len(places) < groups.count:
            cells = cells.picked(places)
            groups = Groups(
                {n: type(c)(c.codes[places], c.choices) for n, c in groups.coded.items()},
                len(places),
            )
        fewer, target = groups.onto(names)
        if names != groups.names or fewer.count != groups.count:
            cells = cells.gathered(target, fewer.count)
        return View(self, fewer, cells, coverage, window)

    def _as_of(self, as_of: DateLike) -> int:
        latest = isinstance(as_of, str) and as_of == "latest"
        return self.coverage.hi if latest else as_of_day(as_of)

    def _narrow(self, only: Only) -> tuple[Span | None, dict[str, Any]]:
        """Return the window of days and the wanted group values."""
        if only is None:
            return None, {}
        if isinstance(only, Span):
            return only, {}
        if isinstance(only, Period):
            return only.span, {}
        if isinstance(only, Mapping):
            return None, dict(only)
        if isinstance(only, str):
            return self._narrow_text(only)
        window: Span | None = None
        wanted: dict[str, Any] = {}
        for part in only:
            span, more = self._narrow(part)
            if span and window:
                raise QuestionError(f"only names two spans, {window} and {span}; give one")
            window = span or window
            for name, value in more.items():
                values = [value] if isinstance(value, str) else value
                wanted[name] = [*wanted.get(name, []), *values]
        return window, wanted

    def _narrow_text(self, text: str) -> tuple[Span | None, dict[str, Any]]:
        name, equals, value = text.partition("=")
        if equals and name.strip() in self.groups.names:
            return None, {name.strip(): value.strip()}
        if ".." in text:
            first, _, last = (part.strip() for part in text.partition(".."))
            lo = ordinal(first) if first else FIRST_DAY
            return Span.of(lo, ordinal(last) if last else LAST_DAY), {}
        try:
            return self.calendar.period(text).span, {}
        except CalendarError as error:
            raise QuestionError(
                f"only={text!r} is no span (2025-05-06..2025-06-17), no group value "
                f"(column=value; columns: {', '.join(self.groups.names) or 'none'}), and {error}"
            ) from None


@dataclass(frozen=True, eq=False)
class View:
    """The cells that one question looks at."""

    facts: Facts
    groups: Groups
    cells: Cells
    coverage: Span
    window: Span | None

    @property
    def calendar(self) -> Calendar:
        """The calendar of the facts."""
        return self.facts.calendar

    @cached_property
    def seen(self) -> Span:
        """The days in the coverage that the question's window leaves."""
        if self.window is None:
            return self.coverage
        lo, hi = max(self.window.lo, self.coverage.lo), min(self.window.hi, self.coverage.hi)
        if hi < lo:
            raise QuestionError(f"only={self.window} lies outside the coverage {self.coverage}")
        return Span.of(lo, hi)

    def complete(self, first: Ints, last: Ints) -> Flags:
        """Return which spans lie wholly in the coverage."""
        return (first >= self.coverage.lo) & (last <= self.coverage.hi)

    def together(self) -> View:
        """Return the same view with all its groups added up to one."""
        cells = self.cells.gathered(np.zeros(self.groups.count, np.int64), 1)
        return View(self.facts, Groups({}, 1), cells, self.coverage, self.window)

    def value(self, measure: Measure, group: Ints, first: Ints, last: Ints) -> Column:
        """Return a measure over one span of days per row, blank outside the coverage.

        The part of a span that reaches out of the coverage counts for nothing.
        """
        lo, hi = np.maximum(first, self.coverage.lo), np.minimum(last, self.coverage.hi)
        parts = [self._term(term, group, lo, hi) for term in measure.terms]
        column = parts[0] if len(parts) == 1 else _ratio(*parts)
        return column.blanked(lo <= hi).named(
            measure.name, f"{measure.formula} over the row's days"
        )

    def _term(self, term: Term, group: Ints, lo: Ints, hi: Ints) -> Column:
        stop = np.maximum(hi + 1, lo)
        if term.how == "count":
            plane = Plane("filled", term.column) if term.column else Plane("rows")
            return self.cells.sums(plane, group, lo, stop)
        total = self.cells.sums(Plane("sum", term.column), group, lo, stop)
        if term.how == "sum":
            return total
        return _ratio(total, self.cells.sums(Plane("filled", term.column), group, lo, stop))

    def meta(self, verb: str) -> dict[str, Any]:
        """Return what stands beside every result."""
        facts = self.facts
        return {
            "verb": verb,
            "calendar": facts.calendar.describe(),
            "coverage": str(self.coverage),
            "as_of": str(self.coverage.last),
            "measures": {m.name: m.formula for m in facts.measures},
            "rows": facts.rows,
            "source": facts.source,
        }


def _ratio(over: Column, under: Column) -> Column:
    """Return the quotient as floats, blank where the divisor is zero or either is blank."""
    top, bottom = over.numbers(), under.numbers()
    valid = ~(np.isnan(top) | np.isnan(bottom)) & (bottom != 0)
    quotient = np.divide(top, bottom, out=np.zeros(len(top)), where=valid)
    return Column.of("", "float", quotient, valid)
