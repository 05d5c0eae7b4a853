"""Windows: which days a rolling window holds, and the windows of every row."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from eptaro.core.aggregation.cells import ROWS
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import ACTIVE_DAY, BY_GROUP, ENTRY, WORKDAY, Amount
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import LastN, Side, TracedNumber, Value
from eptaro.core.query.view import View
from eptaro.core.results.column import (
    AnyColumn,
    Column,
    LazyColumn,
    ManyFlags,
    ManyInts,
    TiledArray,
    date_column,
    day_counts,
    lazy_group,
)
from eptaro.core.results.format import COMPLETE, DATE, FIRST, LAST, DisplayHint, Priority
from eptaro.errors import QuestionError
from eptaro.record import Record, record

if TYPE_CHECKING:
    from eptaro.core.query.transactions import Ledger


@record
class Windows(Record):
    """How windows lie about their day."""

    back: Amount
    ahead: Amount | None
    centred: bool
    closed: bool

    def check(self) -> None:
        """Raise `QuestionError` for windows that cannot be."""
        if self.centred and (self.back.unit not in ("day", "week") or self.ahead or self.closed):
            raise QuestionError("a centred window is a number of days or weeks, and nothing else")
        if self.ahead and ACTIVE_DAY in (self.back.unit, self.ahead.unit):
            raise QuestionError("active days reach back only; leave ahead out")
        if self.ahead and ENTRY in (self.back.unit, self.ahead.unit):
            raise QuestionError("entries reach back only; leave ahead out")
        if self.closed and self.back.unit in BY_GROUP:
            raise QuestionError(f"{self.back} are counted, and have no far edge to close")

    def bounds(self, days: Ints, calendar: Calendar, workdays: Workdays) -> tuple[Ints, Ints]:
        """Return the first and last day of the window of each day.

        `days` and the results are `(n,)`.

        A window of n months ends on its day t and begins on the later of `shift(t, -n) + 1
        day` and `shift(t + 1 day, -n)`: never more than n months, and whole months at
        month ends. A closed far edge begins on `shift(t, -n)` itself.
        """
        if self.centred:
            width = self.back.n * (7 if self.back.unit == "week" else 1)
            first = days - width // 2
            return first, first + width - 1
        n, unit = self.back.n, self.back.unit
        if unit == WORKDAY:
            counted_days = workdays.number(days + 1)
            first = workdays.move(days, -n) if self.closed else workdays.day_at(counted_days - n)
        else:
            # A month back from 28 February is 28 January, but from the day after it 1 February:
            # the later beginning leaves a whole month.
            first = calendar.move_days(days, -n, unit)[0]
            if not self.closed:
                first = np.maximum(first + 1, calendar.move_days(days + 1, -n, unit)[0])
        return first, self._last(days, calendar, workdays)

    def _last(self, days: Ints, calendar: Calendar, workdays: Workdays) -> Ints:
        """Return the last day of the window of each day; both arrays are `(n,)`."""
        if self.ahead is None:
            return days
        n, unit = self.ahead.n, self.ahead.unit
        if unit == WORKDAY:
            return workdays.day_at(workdays.number(days + 1) + n - 1)
        # The day after is moved and one day taken off, so that whole months end at month ends.
        return calendar.move_days(days + 1, n, unit)[0] - 1


@record
class WindowSpans:
    """Windows row by row; with a ledger they are runs `lo`..`hi` of its transactions."""

    group: ManyInts
    date: ManyInts
    first: ManyInts
    last: ManyInts
    complete: ManyFlags
    ledger: Ledger | None = None
    lo: Ints | None = None
    hi: Ints | None = None

    def numbers(self, view: View, back: Amount, *, whole: bool) -> dict[str, TracedNumber]:
        """Return what is behind the values of each measure, of `whole` windows alone."""
        side = Side("days", self.first, self.last)
        last_n = None if self.ledger is None else LastN(back)
        return {
            f"{m.name}_trailing": Value(
                view, m, self.group, side, last_n, self.complete if whole else None
            )
            for m in view.facts.measures
        }

    def head(self, view: View) -> list[AnyColumn]:
        """Return the columns that label the windows."""
        rows = len(self.group)
        days = lazy_group(["date", "first", "last", "days"], rows, self._days)
        entries = LazyColumn("entries", rows, lambda: self._entries(view))
        return [*days, entries, LazyColumn("complete", rows, self._complete)]

    def _days(self) -> list[Column]:
        first, last = np.asarray(self.first), np.asarray(self.last)
        days = last - first + 1
        return [
            date_column(
                "date", np.asarray(self.date), None, "The day that the window belongs to", DATE
            ),
            date_column("first", first, None, "First day of the window", FIRST),
            date_column("last", last, None, "Last day of the window", LAST),
            day_counts(days, "Days from first to last"),
        ]

    def _complete(self) -> Column:
        text = "Whether the window lies wholly in the coverage"
        return Column.of(
            "complete", "flag", np.asarray(self.complete), description=text, face=COMPLETE
        )

    def _entries(self, view: View) -> Column:
        if self.lo is not None and self.hi is not None:
            entries = self.hi - self.lo
        else:
            # Days ahead that no data covers have no cells.
            last = np.minimum(np.asarray(self.last), view.coverage.hi)
            group, first = np.asarray(self.group), np.asarray(self.first)
            lo, hi = view.cells.axis.bounds(group, first, last)
            entries = view.cells.sums(ROWS, lo, hi).data
        return Column.of(
            "entries",
            "integer",
            entries,
            description="Transactions in it",
            face=DisplayHint("entries", Priority.DETAIL),
        )

    def value(self, view: View, measure: Measure) -> Column:
        """Return a measure over the windows."""
        if self.ledger is None or self.lo is None or self.hi is None:
            if isinstance(self.first, TiledArray) and isinstance(self.last, TiledArray):
                return view.value_of_all(measure, self.first.values, self.last.values)
            group, first, last = (np.asarray(p) for p in (self.group, self.first, self.last))
            return view.value(measure, group, first, last)
        if measure.needs_days:
            raise QuestionError(f"{measure.formula} needs whole days; a number of entries has none")
        formats = view.facts.folded.formats
        return measure.over_cells(self.ledger.cells, self.lo, self.hi, formats)


def ends_of(view: View, every: str) -> Ints:
    """Return the days that windows belong to: each day seen, or each period's last."""
    covered = view.seen
    if every == "day":
        return np.arange(covered.lo, covered.hi + 1)
    last = view.calendar.periods(covered, every).last
    return np.minimum(last, covered.hi)


def windowed_rows(view: View, windows: Windows, ends: Ints) -> WindowSpans:
    """Return the windows that end on some days, for every group.

    `ends` is `(n_ends,) int64`; there are `n_groups * n_ends` windows.
    """
    count = view.groups.count
    if windows.back.unit in BY_GROUP:
        group, day = np.repeat(np.arange(count), len(ends)), np.tile(ends, count)
        if windows.back.unit == ENTRY:
            return _by_entries(view, windows.back.n, group, day)
        begins, complete = _active(view, windows.back.n, group, day)
        return WindowSpans(group, day, begins, day, complete)
    lo, hi = windows.bounds(ends, view.calendar, view.facts.workdays)
    date, first, last = (TiledArray.of_spans(part, count) for part in (ends, lo, hi))
    whole = view.complete_of_all(lo, hi)
    return WindowSpans(TiledArray.of_groups(count, len(ends)), date, first, last, whole)


def _active(view: View, n: int, group: Ints, date: Ints) -> tuple[Ints, Flags]:
    """Return the first day of windows of n days with transactions.

    All arrays are `(n_windows,)`.
    """
    axis = view.cells.axis
    places = np.arange(axis.size)
    active = view.cells.sums(ROWS, places, places + 1).data > 0
    days = axis.cells_of()[1][active]
    counts = running_sums(active.astype(np.int64))
    upto = counts[axis.cell_of(group, date + 1)]
    opens = counts[axis.cell_of(group, np.full(len(group), axis.first_day))]
    # The window stops at the first active day of the group, not at one of the group before.
    lo = np.maximum(upto - n, opens)
    # Where a group has had no active day yet the place may lie behind all of them; it is not used.
    first = days[np.minimum(lo, len(days) - 1)]
    return np.where(upto > opens, first, date), upto - n >= opens


def _by_entries(view: View, n: int, group: Ints, date: Ints) -> WindowSpans:
    """Return windows of the last n transactions of each group up to each day.

    `group` and `date` are `(n_windows,)`.
    """
    from eptaro.core.query.transactions import Ledger

    ledger = Ledger.of(view)
    hi, opens = ledger.upto(group, date), ledger.opens(group)
    # Before its first transaction a group has an empty run at its own beginning.
    hi = np.maximum(hi, opens)
    lo = np.maximum(hi - n, opens)
    any_day = np.minimum(lo, len(ledger.day) - 1)
    first = np.where(hi > lo, ledger.day[any_day], date)
    return WindowSpans(group, date, first, date, hi - lo == n, ledger, lo, hi)
