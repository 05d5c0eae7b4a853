"""`accumulate`: running totals that restart at each period."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints, ordinal
from eptaro.core.calendars.grain import level_of
from eptaro.core.calendars.levels import LEVELS, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.kernels.sorting import distinct_sorted
from eptaro.core.query.lineage import Side, TracedNumber, Value, ViewLineage
from eptaro.core.query.transactions import LABEL, per_row
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import (
    AnyColumn,
    Column,
    LazyColumn,
    TiledArray,
    date_column,
    take_lazy,
    with_shown_labels,
)
from eptaro.core.results.format import COMPLETE, DATE, FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.goals import GoalRows, goal_columns, goals_of
from eptaro.core.verbs.queries import Accumulate
from eptaro.errors import QuestionError, show_option
from eptaro.record import record

_WHOLE = "Whether all days of the running total lie in the coverage"


def accumulate(facts: BookData, query: Accumulate) -> Result:
    """Return period-to-date (running) totals, which restart at each period of `within`."""
    within, every, goals = query.within, query.every or level_of(facts.folded.grain), query.goals
    query = replace(query, every=every)
    view = facts.view(query.by, query.only, query.as_of)
    if every == "entry":
        rows = _rows_to_date(view, within, "day")
        window = Span.of(int(rows.first[0]), view.seen.hi)
        if window != view.seen:  # a total that runs from a fixed day has no rows before it
            view = replace(view, window=window, cache={})
        label = Column.text("within", rows.within, description=LABEL)
        label = with_shown_labels(label, view.calendar)
        return per_row(view, Side("days", rows.since, rows.last), "_to_date", label, query)
    rows = _rows_to_date(view, within, check_level(every, facts.calendar.levels))
    count, groups = len(rows.last), view.groups.count
    group, place = (
        TiledArray.of_groups(groups, count),
        TiledArray.of_spans(np.arange(count), groups),
    )
    last, since = TiledArray.of_spans(rows.last, groups), TiledArray.of_spans(rows.since, groups)
    head = [*take_lazy(rows.head(every, view.calendar), place), rows.complete(view)]
    columns: list[AnyColumn] = [*view.groups.later(group), *head]
    opens = TiledArray.of_spans(np.maximum(rows.opens, rows.since), groups)
    own = Side("day" if every == "day" else "days", opens, last)
    running = Side("days", since, last)
    numbers: dict[str, TracedNumber] = {}
    for measure in facts.measures:
        name = f"{measure.name}_to_date"
        to_date = view.value_of_all(measure, rows.since, rows.last)
        own_days = partial(view.value_of_all, measure, rows.first, rows.last)
        columns.append(LazyColumn(measure.name, len(group), own_days))
        text = f"{measure.formula} from first to the row's last day"
        columns.append(to_date.named(name, text, DisplayHint("to date", of=measure.name)))
        numbers[measure.name] = Value(view, measure, group, own)
        numbers[name] = Value(view, measure, group, running)
        if (own_goals := goals_of(goals, measure, facts.measures)) is not None:
            labels, label_at = np.unique(rows.within, return_inverse=True)
            of_all = (np.asarray(part) for part in (group, label_at[place[:]], last))
            periods = GoalRows(within, labels, *of_all)
            columns += goal_columns(view, measure, own_goals, query.pace, periods, to_date)
    meta = view.meta("accumulate") | {"within": within, "every": every}
    return Result(columns, meta, ViewLineage(query, view, group, numbers))


@record
class _Totals:
    """Rows of one group: own days `first`..`last`, running total from `since`.

    `opens` is the first day of the whole period that a row's own days lie in.
    """

    labels: NDArray[np.str_]
    opens: Ints
    first: Ints
    last: Ints
    since: Ints
    within: NDArray[np.str_]

    def complete(self, view: View) -> LazyColumn:
        """Return the column that says for every group which running totals are whole."""
        rows = len(self.last) * view.groups.count

        def make() -> Column:
            whole = np.asarray(view.complete_of_all(self.since, self.last))
            return Column.of("complete", "flag", whole, description=_WHOLE, face=COMPLETE)

        return LazyColumn("complete", rows, make)

    def head(self, every: str, calendar: Calendar) -> list[Column]:
        """Return the columns that label the rows, the same for every group."""
        last, since = self.last, self.since
        by_day = every == "day"
        label = Column.text("period", self.labels, description="Period label", face=PERIOD)
        day = date_column("date", last, None, "The day that the total runs to", DATE)
        within = Column.text(
            "within",
            self.within,
            description="Period of the running total",
            face=DisplayHint("within", Priority.BESIDE),
        )
        since_face = DisplayHint("since", Priority.DAYS) if by_day else FIRST
        opens = date_column("first", since, None, "First day of the running total", since_face)
        if by_day:
            return [day, with_shown_labels(within, calendar), opens]
        end = date_column("last", last, None, "Last day of the running total", LAST)
        return [*(with_shown_labels(column, calendar) for column in (label, within)), opens, end]


def _rows_to_date(view: View, within: str, every: str) -> _Totals:
    calendar = view.calendar
    upto = Span.of(view.coverage.lo, view.seen.hi)
    if within == "all":
        begins, names = np.array([upto.lo]), np.array(["all"])
    elif ".." in within:
        begins, names = _split_since(upto, within)
    else:
        check_level(within, calendar.levels)
        if LEVELS.index(every) < LEVELS.index(within):
            fits = ", ".join(LEVELS[LEVELS.index(within) :])
            raise QuestionError(
                f"{show_option('every', every)} is wider than {show_option('within', within)}; "
                f"use {fits}"
            )
        outer = calendar.periods(upto, within)
        begins, names = outer.first, outer.labels
    parts = calendar.periods(upto, every)
    cuts = np.sort(np.concatenate([parts.first, begins]))
    cuts = np.maximum(cuts[cuts <= upto.hi], max(upto.lo, int(begins[0])))
    first, _ = distinct_sorted(cuts)
    last = np.append(first[1:] - 1, upto.hi)
    in_view = last >= view.seen.lo
    first, last = first[in_view], last[in_view]
    holder = np.searchsorted(begins, first, side="right") - 1
    part = parts.position_of(first)
    return _Totals(
        parts.labels[part], parts.first[part], first, last, begins[holder], names[holder]
    )


def _split_since(upto: Span, within: str) -> tuple[Ints, NDArray[np.str_]]:
    first, _, rest = within.partition("..")
    if rest or not first:
        raise QuestionError(
            f"{show_option('within', within)} must be a level or a first day as '2025-03-01..'"
        )
    day = ordinal(first)
    if day > upto.hi:
        raise QuestionError(
            f"{show_option('within', within)} begins after the last day seen, {upto.last}"
        )
    return np.array([day]), np.array([within])
