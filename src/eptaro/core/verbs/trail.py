"""`trail`: rolling windows over time, workdays or transactions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TypeAlias, get_args

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import level_of
from eptaro.core.calendars.levels import BY_GROUP, COUNTED, ENTRY, Amount, check_level
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import Side, ViewLineage
from eptaro.core.query.transactions import LABEL, last_entries, per_row
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column
from eptaro.core.results.format import DisplayHint
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Edge, Trail
from eptaro.core.verbs.windows import Windows, WindowSpans, ends_of, windowed_rows
from eptaro.errors import QuestionError, show_option
from eptaro.record import Record, record


def trail(facts: BookData, query: Trail) -> Result:
    """Return rolling windows; see `Trail`."""
    every, back = query.every or level_of(facts.folded.grain), query.amount
    query = replace(query, every=every)
    windows = Windows(back, query.amount_ahead, query.centred, query.far_edge == "closed")
    windows.check()
    weights = None if query.weights is None else _check_weights(query.weights)
    view = facts.view(query.by, query.only, query.as_of)
    if every == "entry":
        return _trail_per_entry(view, windows, query)
    ends = ends_of(view, check_level(every, facts.calendar.levels))
    if weights is not None:
        weighted = Weighted(back, every, weights)
        rows = _weighted_windows(view, windows, ends, weighted)
        values = weighted.mean(view, np.asarray(rows.group), np.asarray(rows.date))
    else:
        rows = windowed_rows(view, windows, ends)
        values = [rows.value(view, measure) for measure in facts.measures]
    if query.incomplete == "blank":
        values = [value.blanked(np.asarray(rows.complete)) for value in values]
    value_columns = [
        value.named(
            f"{measure.name}_trailing",
            f"{measure.formula} over the window",
            DisplayHint(f"{measure.name}, {back}"),
        )
        for measure, value in zip(facts.measures, values, strict=True)
    ]
    columns = [*view.groups.later(rows.group), *rows.head(view), *value_columns]
    ahead = None if query.amount_ahead is None else str(query.amount_ahead)
    meta = view.meta("trail") | {"every": every, "back": str(back), "ahead": ahead}
    whole = query.incomplete == "blank"
    # A weighted mean is made of many values, which no single span of days can prove.
    numbers = {} if weights else rows.numbers(view, back, whole=whole)
    return Result(columns, meta, ViewLineage(query, view, rows.group, numbers))


def _check_weights(weights: object) -> tuple[float, ...]:
    if isinstance(weights, str) or not isinstance(weights, Iterable):
        raise QuestionError(
            f"{show_option('weights', weights)} must be numbers, one per unit, oldest first"
        )
    return tuple(weights)


def _trail_per_entry(view: View, windows: Windows, query: Trail) -> Result:
    """Return for each transaction the window of its day, or of the last so many up to it."""
    if query.weights is not None:
        raise QuestionError(
            f"weights go with units of time; leave out weights or {show_option('every', 'entry')}"
        )
    # A window has no label of its own: all rows share the words of the question.
    one = np.zeros(1, np.int64)
    window = np.array([str(windows.back)])
    if windows.back.unit == ENTRY:
        label = Column.text("window", window, one, description=LABEL)
        blank = query.incomplete == "blank"
        return last_entries(view, windows.back.n, "_trailing", label, query, whole=blank)
    if windows.back.unit in BY_GROUP:
        raise QuestionError(
            f"{show_option('every', 'entry')} goes with windows of days "
            f"or entries, not of {windows.back}"
        )
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    first, last = windows.bounds(days, view.calendar, view.facts.workdays)
    label = Column.text("window", window, np.zeros(len(days), np.int64), description=LABEL)
    side, whole = Side("days", first, last), query.incomplete == "blank"
    return per_row(view, side, "_trailing", label, query, whole=whole)


def _weighted_windows(view: View, windows: Windows, ends: Ints, weighted: Weighted) -> WindowSpans:
    """Return the windows whose units are weighted: they begin with the first unit used.

    `ends` is `(n_ends,)`; there are `n_groups * n_ends` windows.
    """
    weighted.check(windows)
    count = view.groups.count
    group, date = np.repeat(np.arange(count), len(ends)), np.tile(ends, count)
    _, hi = windows.bounds(ends, view.calendar, view.facts.workdays)
    first, last = np.tile(weighted.first_used(view, ends), count), np.tile(hi, count)
    return WindowSpans(group, date, first, last, view.complete(first, last, group))


@record
class Weighted(Record):
    """Windows whose units, days or periods of `every`, have weights, the oldest first."""

    back: Amount
    every: str
    weights: tuple[float, ...]

    def check(self, windows: Windows) -> None:
        """Raise `QuestionError` where the units of a window are not those that are weighted."""
        back = self.back
        if back.unit not in ("day", self.every) or back.unit in COUNTED:
            raise QuestionError(
                f"weights go with days, or with {show_option('every', back.unit)} for {back}"
            )
        if windows.ahead or windows.centred or windows.closed:
            raise QuestionError(
                "weights go with windows that reach back alone; leave out ahead, centred and "
                "far_edge"
            )

    def mean(self, view: View, group: Ints, date: Ints) -> list[Column]:
        """Return for each measure the weighted mean of its values over the units of a window.

        `group` and `date` are `(n_windows,)`.

        The sum of weight times value, divided by the sum of weights; blank where one of the
        units has no value.
        """
        weights, n = self.weights, self.back.n
        if len(weights) != n:
            raise QuestionError(
                f"{len(weights)} weights for {self.back}; give one per unit, oldest first"
            )
        total = float(np.sum(weights))
        if not np.isfinite(total) or total == 0:
            raise QuestionError("the weights add up to nothing; give numbers with a sum")
        columns = []
        for measure in view.facts.measures:
            added, scale, form = np.zeros(len(group)), None, None
            for age, weight in zip(range(n - 1, -1, -1), weights, strict=True):
                value = view.value(measure, group, *self._unit(view, date, age))
                form, scale = value.format, value.scale if scale is None else scale
                # A blank is NaN here, and makes the whole mean blank, as the docstring promises.
                with np.errstate(over="ignore", invalid="ignore"):
                    added += weight * (value.units() * 10.0 ** (scale - value.scale))
            mean = added / (total * 10.0 ** (scale or 0))
            columns.append(Column.of("", "float", mean, np.isfinite(mean), format=form))
        return columns

    def first_used(self, view: View, date: Ints) -> Ints:
        """Return the first day of the oldest unit of each window.

        `date` and the result are `(n_windows,)`.
        """
        return self._unit(view, date, self.back.n - 1)[0]

    def _unit(self, view: View, date: Ints, age: int) -> tuple[Ints, Ints]:
        """Return the days of the unit that lies `age` units before the date's own.

        All arrays are `(n_windows,)`.
        """
        if self.back.unit == "day":
            return date - age, date - age
        every = self.every
        index = view.calendar.index_of(date, every) - age
        first, last = view.calendar.first_days(index, every), view.calendar.last_days(index, every)
        # The youngest unit may be under way: it counts up to the date, not to its end.
        return first, np.minimum(last, date) if age == 0 else last


Floats: TypeAlias = NDArray[np.float64]


@record
class ValueRows:
    """Rows with a position each: their group's place among `groups`, and what they measure.

    `places` says where each is in the input, None where none was left out.
    """

    position: Floats
    groups: Groups
    group: Ints
    values: Mapping[str, Column]
    distinct: Mapping[str, Categorical]
    places: Ints | None = None

    def batch(self, order: Ints) -> Batch:
        """Return the rows in an order, each as a cell of its own. `order` is `(n_rows,)`."""
        return Batch(
            np.arange(len(order), dtype=np.int32),
            {},
            {name: column.take(order) for name, column in self.values.items()},
            {name: coded.at(order) for name, coded in self.distinct.items()},
        )


@record
class TrailValues(Record):
    """What windows along a column were asked for; see `trail_values`."""

    along: str
    back: float
    ahead: float = 0.0
    far_edge: Edge = "open"

    def __post_init__(self) -> None:
        back, ahead = self.back, self.ahead
        if not (back > 0 and np.isfinite(back)) or not (ahead >= 0 and np.isfinite(ahead)):
            raise QuestionError(
                f"back={back} and ahead={ahead} must be numbers, and back greater than 0"
            )
        if self.far_edge not in get_args(Edge):
            raise QuestionError(
                f"{show_option('far_edge', self.far_edge)} is neither open nor closed"
            )


def along_values(rows: ValueRows, measures: Sequence[Measure], query: TrailValues) -> Result:
    """Return the measures over the window of each row; see `eptaro.trail_values`."""
    for measure in measures:
        if measure.needs_days:
            raise QuestionError(f"{measure.formula} needs days; windows along a column have none")
    order = np.lexsort((rows.position, rows.group))
    # A row without a position lies in no window, and has none.
    order = order[~np.isnan(rows.position)[order]]
    x, group = rows.position[order], rows.group[order]
    fold = Fold([], {plane for measure in measures for plane in measure.planes})
    fold.add(rows.batch(order))
    _, cells = fold.result()
    lo = _search_in_runs(group, x, x - query.back, after_equals=query.far_edge == "open")
    hi = _search_in_runs(group, x, x + query.ahead, after_equals=True)
    rank = order if rows.places is None else rows.places[order]
    columns = [
        Column.of("row", "integer", rank + 1, unit="number", description="Place in the input"),
        *rows.groups.columns(group),
        Column.of(query.along, "float", x, description="Where the window ends"),
        Column.of("entries", "integer", hi - lo, description="Rows in the window"),
    ]
    for measure in measures:
        value = measure.over_cells(cells, lo, hi, {})
        columns.append(value.named(f"{measure.name}_trailing", f"{measure.formula} over it"))
    return Result(columns, {"verb": "trail_values", "along": query.along})


def _search_in_runs(group: Ints, x: Floats, sought: Floats, *, after_equals: bool) -> Ints:
    """Return for each row the place in its group's run of the ordered `x` where `sought` goes.

    All arrays are `(n_rows,)`.

    Values and questions are put in one order, and the values before each question counted;
    nothing is added or scaled, so no rounding can move an edge.
    """
    n = len(x)
    # Of an equal value and question the one with 0 sorts first, which decides whether the value
    # counts as before the edge.
    is_asked = np.repeat([not after_equals, after_equals], n).astype(np.int8)
    order = np.lexsort((is_asked, np.concatenate([x, sought]), np.concatenate([group, group])))
    values = order < n
    before = np.cumsum(values)
    places = np.empty(n, np.int64)
    places[order[~values] - n] = before[~values]
    return places
