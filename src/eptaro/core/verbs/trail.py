"""`trail`: rolling windows over time, workdays or transactions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.amount import BY_GROUP, OWN_UNITS, Reach
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import check_level
from eptaro.core.folds.planes import ROWS
from eptaro.core.kernels.adding import running
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.per_entry import per_entry
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.transactions import Ledger
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.table import Table
from eptaro.core.verbs.windows import Windows
from eptaro.errors import QuestionError, check_texts, unknown

_EDGES = ("open", "closed")


_KEEPS = ("keep", "blank")


def trail(
    self: Facts,
    back: str,
    *,
    ahead: str | None = None,
    every: str = "day",
    far_edge: str = "open",
    centred: bool = False,
    incomplete: str = "keep",
    weights: Sequence[float] | None = None,
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
) -> Table:
    """Return rolling windows: one row per group and day, or per period at its last day.

    The window of day t counts t and reaches `back`: days, weeks, months, quarters, halves,
    years, workdays, active days (with transactions) or entries (that many transactions, by
    time then input order). Months count as months, however sparse the rows: 6 months at
    2025-02-28 are 2024-09-01..2025-02-28. `far_edge="closed"` begins on `shift(t, -n)`
    itself. `ahead="3 days"` reaches on after t; `centred` puts t in the middle of a number
    of days.

    Columns: the groups, `date`, `first`, `last`, `days`, `entries` (transactions in the
    window), `complete` (whether the window lies wholly in the coverage, or holds as many
    active days or entries as asked), and for each measure `NAME_trailing`. Values of
    incomplete windows are kept, or left out with `incomplete="blank"`.

    `every="entry"` gives one row per transaction, with the window of its day.

    `weights`, oldest first, one per unit of `back`, make it the weighted mean of the
    measure over these units; with months and wider, `every` must be that level.

    Raises `QuestionError` for a window that cannot be.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-01", "2025-01-03"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.trail("2 days")["revenue_trailing"].tolist()
    [7, 7, 5]
    """
    for argument, value, accepted in (
        ("far_edge", far_edge, _EDGES),
        ("incomplete", incomplete, _KEEPS),
    ):
        if value not in accepted:
            raise QuestionError(unknown(f"value for {argument}", value, accepted))
    check_texts(every=every)
    reach = Reach.parse(back, "back")
    after = None if ahead is None else Reach.parse(ahead, "ahead")
    windows = Windows(reach, after, centred, far_edge == "closed")
    windows.check()
    view = self.view(by, only, as_of)
    if every == "entry":
        return _per_entry(view, windows)
    ends = _ends(view, check_level(every, self.calendar.levels))
    if weights is not None:
        check_weights(windows, every, weights)
    rows = _rows(view, windows, ends, None if weights is None else every)
    if weights is not None:
        values = weighted_mean(view, reach, every, list(weights), rows.group, rows.date)
    else:
        values = [rows.value(view, measure) for measure in self.measures]
    if incomplete == "blank":
        values = [value.blanked(rows.complete) for value in values]
    named = [
        value.named(f"{measure.name}_trailing", f"{measure.formula} over the window")
        for measure, value in zip(self.measures, values, strict=True)
    ]
    head = [*view.groups.columns(rows.group), *rows.head()]
    asked = {"every": every, "back": str(reach), "ahead": None if after is None else str(after)}
    meta = view.meta("trail") | asked
    return (view.table if weights is None else Table)([*head, *named], meta)


@dataclass(frozen=True, eq=False)
class _Windowed:
    """Windows row by row; with a ledger they are runs `lo`..`hi` of its transactions."""

    group: Ints
    date: Ints
    first: Ints
    last: Ints
    entries: Ints
    complete: Flags
    ledger: Ledger | None = None
    lo: Ints | None = None
    hi: Ints | None = None

    def head(self) -> list[Column]:
        return [
            dates("date", self.date, description="The day that the window belongs to"),
            dates("first", self.first, description="First day of the window"),
            dates("last", self.last, description="Last day of the window"),
            Column.of(
                "days",
                "integer",
                self.last - self.first + 1,
                unit="days",
                description="Days from first to last",
            ),
            Column.of("entries", "integer", self.entries, description="Transactions in it"),
            Column.of(
                "complete",
                "flag",
                self.complete,
                description="Whether the window lies wholly in the coverage",
            ),
        ]

    def value(self, view: View, measure: Measure) -> Column:
        if self.ledger is None or self.lo is None or self.hi is None:
            return view.value(measure, self.group, self.first, self.last)
        if measure.staged:
            raise QuestionError(f"{measure.formula} needs whole days; a number of entries has none")
        formats = view.facts.folded.formats
        return measure.over_cells(self.ledger.cells, self.lo, self.hi, formats)


def _per_entry(view: View, windows: Windows) -> Table:
    """Return for each transaction the window of its day."""
    if windows.back.unit in BY_GROUP:
        raise QuestionError(f"every='entry' goes with windows of days, not of {windows.back}")
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    first, last = windows.bounds(days, view.calendar, view.facts.workdays)
    labels = np.array([str(windows.back)])[np.zeros(len(days), np.int64)]
    return per_entry(view, first, last, "_trailing", labels, "window", "trail")


def _ends(view: View, every: str) -> Ints:
    """Return the days that windows belong to: each day seen, or each period's last."""
    seen = view.seen
    if every == "day":
        return np.arange(seen.lo, seen.hi + 1)
    last = view.calendar.periods(seen, every).last
    return np.minimum(last, seen.hi)


def _rows(view: View, windows: Windows, ends: Ints, weighted: str | None) -> _Windowed:
    """Return windows that end on some days; `weighted` names the level that `every` is then."""
    count = view.groups.count
    group, date = np.repeat(np.arange(count), len(ends)), np.tile(ends, count)
    if windows.back.unit == "entry":
        return _by_entries(view, windows.back.n, group, date)
    if windows.back.unit == "active day":
        first, complete = _active(view, windows.back.n, group, date)
        last = date
    else:
        lo, hi = windows.bounds(ends, view.calendar, view.facts.workdays)
        if weighted is not None:
            lo = first_used(view, windows.back, weighted, ends)
        first, last = np.tile(lo, count), np.tile(hi, count)
        complete = view.complete(first, last)
    axis = view.cells.axis
    upto = np.minimum(last, view.coverage.hi)
    begin = axis.place(group, first)
    entries = view.cells.sums(ROWS, begin, np.maximum(axis.place(group, upto + 1), begin))
    return _Windowed(group, date, first, last, entries.data, complete)


def _active(view: View, n: int, group: Ints, date: Ints) -> tuple[Ints, Flags]:
    """Return the first day of windows of n days with transactions."""
    axis = view.cells.axis
    places = np.arange(axis.size)
    active = view.cells.sums(ROWS, places, places + 1).data > 0
    days = axis.cells_of()[1][active]
    counts = running(active.astype(np.int64))
    upto = counts[axis.place(group, date + 1)]
    opens = counts[axis.place(group, np.full(len(group), axis.first_day))]
    lo = np.maximum(upto - n, opens)
    first = days[np.minimum(lo, len(days) - 1)]
    return np.where(upto > opens, first, date), upto - n >= opens


def _by_entries(view: View, n: int, group: Ints, date: Ints) -> _Windowed:
    """Return windows of the last n transactions of each group up to each day."""
    ledger = Ledger.of(view)
    hi, opens = ledger.upto(group, date), ledger.opens(group)
    hi = np.maximum(hi, opens)
    lo = np.maximum(hi - n, opens)
    any_day = np.minimum(lo, len(ledger.day) - 1)
    first = np.where(hi > lo, ledger.day[any_day], date)
    return _Windowed(group, date, first, date, hi - lo, hi - lo == n, ledger, lo, hi)


def check_weights(windows: Windows, every: str, weights: object) -> None:
    """Raise `QuestionError` where the units of a window are not those that are weighted."""
    if isinstance(weights, str) or not isinstance(weights, Iterable):
        raise QuestionError(f"weights={weights!r} must be numbers, one per unit, oldest first")
    reach = windows.back
    if reach.unit not in ("day", every) or reach.unit in OWN_UNITS:
        raise QuestionError(f"weights go with days, or with every={reach.unit!r} for {reach}")
    if windows.ahead or windows.centred or windows.closed:
        raise QuestionError(
            "weights go with windows that reach back alone; leave out ahead, centred and far_edge"
        )


def weighted_mean(
    view: View, reach: Reach, every: str, weights: list[float], group: Ints, date: Ints
) -> list[Column]:
    """Return for each measure the weighted mean of its values over the units of a window.

    The sum of weight times value, divided by the sum of weights; blank where one of the
    units has no value.
    """
    if len(weights) != reach.n:
        raise QuestionError(f"{len(weights)} weights for {reach}; give one per unit, oldest first")
    total = float(np.sum(weights))
    if not np.isfinite(total) or total == 0:
        raise QuestionError("the weights add up to nothing; give numbers with a sum")
    found = []
    for measure in view.facts.measures:
        added = np.zeros(len(group))
        for age, weight in zip(range(reach.n - 1, -1, -1), weights, strict=True):
            first, last = _unit(view, reach.unit, every, date, age)
            with np.errstate(over="ignore", invalid="ignore"):
                added += weight * view.value(measure, group, first, last).numbers()
        found.append(Column.of("", "float", added / total, np.isfinite(added)))
    return found


def first_used(view: View, reach: Reach, every: str, date: Ints) -> Ints:
    """Return the first day of the oldest unit of each window."""
    return _unit(view, reach.unit, every, date, reach.n - 1)[0]


def _unit(view: View, unit: str, every: str, date: Ints, age: int) -> tuple[Ints, Ints]:
    """Return the days of the unit that lies `age` units before the date's own."""
    if unit == "day":
        return date - age, date - age
    index = view.calendar.index_of(date, every) - age
    first, last = view.calendar.first_days(index, every), view.calendar.last_days(index, every)
    return first, np.minimum(last, date) if age == 0 else last
