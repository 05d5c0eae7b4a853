"""`trail`: rolling windows over time, workdays or transactions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias, get_args

import numpy as np

from eptaro.core.calendars.amount import BY_GROUP, COUNTED, Amount
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import check_level
from eptaro.core.questions.answer import Answered, Side
from eptaro.core.questions.per_entry import LABEL, per_entry
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables.answer import Question
from eptaro.core.tables.column import Column
from eptaro.core.tables.face import Face
from eptaro.core.tables.table import Table
from eptaro.core.verbs.windows import Windowed, Windows, ends_of, windowed_rows
from eptaro.errors import QuestionError, check_texts, unknown

Edge: TypeAlias = Literal["open", "closed"]


Keep: TypeAlias = Literal["keep", "blank"]


@dataclass(frozen=True)
class Trail(Question):
    """What rolling windows were asked for; see `trail` for what each option means."""

    verb = "trail"
    back: Amount
    ahead: Amount | None = None
    every: str = "day"
    far_edge: Edge = "open"
    centred: bool = False
    incomplete: Keep = "keep"
    weights: tuple[float, ...] | None = None

    def __post_init__(self) -> None:
        for argument, value, accepted in (
            ("far_edge", self.far_edge, get_args(Edge)),
            ("incomplete", self.incomplete, get_args(Keep)),
        ):
            if value not in accepted:
                raise QuestionError(unknown(f"value for {argument}", value, accepted))
        check_texts(every=self.every)

    def windows(self) -> Windows:
        """Return how the windows lie about their day; raises `QuestionError` for none that can."""
        windows = Windows(self.back, self.ahead, self.centred, self.far_edge == "closed")
        windows.check()
        return windows


def trail(
    self: Facts,
    back: str,
    *,
    ahead: str | None = None,
    every: str | None = None,
    far_edge: Edge = "open",
    centred: bool = False,
    incomplete: Keep = "keep",
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

    Parameters
    ----------
    back : str
        How far windows reach back: `6 months`, `10 workdays`, `5 entries`.
    ahead : str, optional
        How far they reach on.
    every : str, optional
        One row per `day`, or level, or per `entry`; unset, by the day, or by the periods that the
        data is dated by.
    far_edge : {"open", "closed"}
        Closed: begin on the very day that lies so far back.
    centred : bool
        Puts the day in the middle of a number of days.
    incomplete : {"keep", "blank"}
        What becomes of windows beyond the coverage.
    weights : sequence of float, optional
        Oldest first, one per unit of `back`.
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.

    Returns
    -------
    Table
        One row per group and day, or period at its last day.

    Raises
    ------
    QuestionError
        For a window that cannot be.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-01", "2025-01-03"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.trail("2 days")["revenue_trailing"].tolist()
    [7, 7, 5]
    """
    every = every or self.folded.grain
    asked = Trail(
        Amount.parse(back, "back"),
        None if ahead is None else Amount.parse(ahead, "ahead"),
        every,
        far_edge,
        centred,
        incomplete,
        None if weights is None else _checked(weights),
    )
    windows = asked.windows()
    view = self.view(by, only, as_of)
    if every == "entry":
        return _per_entry(view, windows, asked)
    ends = ends_of(view, check_level(every, self.calendar.levels))
    if asked.weights is not None:
        rows = _weighted_rows(view, windows, ends, asked)
        values = weighted_mean(view, asked, np.asarray(rows.group), np.asarray(rows.date))
    else:
        rows = windowed_rows(view, windows, ends)
        values = [rows.value(view, measure) for measure in self.measures]
    if incomplete == "blank":
        values = [value.blanked(np.asarray(rows.complete)) for value in values]
    named = [
        value.named(
            f"{measure.name}_trailing",
            f"{measure.formula} over the window",
            Face(f"{measure.name}, {asked.back}"),
        )
        for measure, value in zip(self.measures, values, strict=True)
    ]
    columns = [*view.groups.later(rows.group), *rows.head(view), *named]
    ahead_text = None if asked.ahead is None else str(asked.ahead)
    meta = view.meta("trail") | {"every": every, "back": str(asked.back), "ahead": ahead_text}
    whole = incomplete == "blank"
    numbers = {} if asked.weights else rows.numbers(view, asked.back, whole=whole)
    return Table(columns, meta, Answered(asked, view, rows.group, numbers, rows.every))


def _checked(weights: object) -> tuple[float, ...]:
    if isinstance(weights, str) or not isinstance(weights, Iterable):
        raise QuestionError(f"weights={weights!r} must be numbers, one per unit, oldest first")
    return tuple(weights)


def _per_entry(view: View, windows: Windows, asked: Trail) -> Table:
    """Return for each transaction the window of its day."""
    if windows.back.unit in BY_GROUP:
        raise QuestionError(f"every='entry' goes with windows of days, not of {windows.back}")
    if asked.weights is not None:
        raise QuestionError("weights go with units of time; leave them or every='entry' out")
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    first, last = windows.bounds(days, view.calendar, view.facts.workdays)
    one = np.zeros(len(days), np.int64)
    label = Column.text("window", np.array([str(windows.back)]), one, description=LABEL)
    side, whole = Side("days", first, last), asked.incomplete == "blank"
    return per_entry(view, side, "_trailing", label, asked, whole=whole)


def _weighted_rows(view: View, windows: Windows, ends: Ints, asked: Trail) -> Windowed:
    """Return the windows whose units are weighted: they begin with the first unit used."""
    check_weights(windows, asked.every)
    count = view.groups.count
    group, date = np.repeat(np.arange(count), len(ends)), np.tile(ends, count)
    _, hi = windows.bounds(ends, view.calendar, view.facts.workdays)
    first, last = np.tile(first_used(view, asked, ends), count), np.tile(hi, count)
    return Windowed(group, date, first, last, view.complete(first, last, group))


def check_weights(windows: Windows, every: str) -> None:
    """Raise `QuestionError` where the units of a window are not those that are weighted."""
    back = windows.back
    if back.unit not in ("day", every) or back.unit in COUNTED:
        raise QuestionError(f"weights go with days, or with every={back.unit!r} for {back}")
    if windows.ahead or windows.centred or windows.closed:
        raise QuestionError(
            "weights go with windows that reach back alone; leave out ahead, centred and far_edge"
        )


def weighted_mean(view: View, asked: Trail, group: Ints, date: Ints) -> list[Column]:
    """Return for each measure the weighted mean of its values over the units of a window.

    The sum of weight times value, divided by the sum of weights; blank where one of the
    units has no value.
    """
    weights, n = asked.weights or (), asked.back.n
    if len(weights) != n:
        raise QuestionError(
            f"{len(weights)} weights for {asked.back}; give one per unit, oldest first"
        )
    total = float(np.sum(weights))
    if not np.isfinite(total) or total == 0:
        raise QuestionError("the weights add up to nothing; give numbers with a sum")
    found = []
    for measure in view.facts.measures:
        added, form = np.zeros(len(group)), None
        for age, weight in zip(range(n - 1, -1, -1), weights, strict=True):
            value = view.value(measure, group, *_unit(view, asked, date, age))
            form = value.format
            with np.errstate(over="ignore", invalid="ignore"):
                added += weight * value.numbers()
        found.append(Column.of("", "float", added / total, np.isfinite(added), format=form))
    return found


def first_used(view: View, asked: Trail, date: Ints) -> Ints:
    """Return the first day of the oldest unit of each window."""
    return _unit(view, asked, date, asked.back.n - 1)[0]


def _unit(view: View, asked: Trail, date: Ints, age: int) -> tuple[Ints, Ints]:
    """Return the days of the unit that lies `age` units before the date's own."""
    if asked.back.unit == "day":
        return date - age, date - age
    every = asked.every
    index = view.calendar.index_of(date, every) - age
    first, last = view.calendar.first_days(index, every), view.calendar.last_days(index, every)
    return first, np.minimum(last, date) if age == 0 else last
