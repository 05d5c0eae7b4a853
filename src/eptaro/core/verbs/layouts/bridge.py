"""The periods of two calendars crossed: a row for the days that are in one of each."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.folded import rows_note
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.span import Span
from eptaro.core.dimension.recurring import RECURRING
from eptaro.core.query.lineage import Side, Value, ViewLineage
from eptaro.core.query.view import BookData, top_groups
from eptaro.core.results.column import (
    Column,
    TiledArray,
    date_column,
    day_counts,
    with_shown_labels,
    words_at,
)
from eptaro.core.results.format import COMPLETE, FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap import tie_out
from eptaro.record import record


@record
class SharedDays:
    """Runs of days that lie in one period of each of two calendars, in time order, `(n_runs,)`:
    their ends, and the labels of both periods.
    """

    first: Ints
    last: Ints
    labels: tuple[NDArray[np.str_], NDArray[np.str_]]

    @classmethod
    def of(cls, one: Calendar, other: Calendar, level: str, span: Span) -> SharedDays:
        """Return the runs that share a day with a span."""
        both = [calendar.periods(span, level) for calendar in (one, other)]
        starts = np.union1d(both[0].first, both[1].first)
        begin = int(np.searchsorted(starts, span.lo, side="right")) - 1
        starts = starts[begin : int(np.searchsorted(starts, span.hi, side="right"))]
        end = min(int(periods.last[-1]) for periods in both)
        lasts = np.append(starts[1:] - 1, end)
        labels = (p.labels[np.searchsorted(p.first, starts, side="right") - 1] for p in both)
        here, there = (np.asarray(words) for words in labels)
        return cls(starts, lasts, (here, there))


def on_two_calendars(facts: BookData, query: Recap) -> Result:
    """Return one row per group and run of days that lie in one period of each calendar; the rows of
    a period add up to it, in either calendar.
    """
    other = query.beside
    assert isinstance(other, Calendar)
    if query.per in RECURRING:
        query.check_attribute()
    view = facts.view(query.by, query.only, query.as_of)
    if query.top is not None:
        view = top_groups(view, query.top, query.within_groups)
    for calendar in (view.calendar, other):
        check_level(query.per, calendar.levels)
    days = SharedDays.of(view.calendar, other, query.per, view.seen)
    count, groups = len(days.first), view.groups.count
    group, place = np.repeat(np.arange(groups), count), np.tile(np.arange(count), groups)
    first, last = days.first[place], days.last[place]
    whole = np.asarray(view.complete_of_all(days.first, days.last)[:])
    name = f"{other.name}_period" if other.name != view.calendar.name else "other_period"
    columns = [
        *view.groups.columns(group),
        with_shown_labels(
            words_at("period", days.labels[0], place, f"Period of {view.calendar.name}", PERIOD),
            view.calendar,
        ),
        with_shown_labels(
            words_at(
                name,
                days.labels[1],
                place,
                f"Period of {other.name} that holds the same days",
                DisplayHint(name.replace("_", " "), Priority.KEY),
            ),
            other,
        ),
        date_column("first", first, None, "First of the days that lie in both periods", FIRST),
        date_column("last", last, None, "Last of the days that lie in both periods", LAST),
        day_counts(last - first + 1, "Days that lie in both periods", Priority.BESIDE),
        Column.of(
            "complete",
            "flag",
            whole,
            description="Whether all of these days lie inside the coverage",
            face=COMPLETE,
        ),
    ]
    measures = view.facts.measures
    values = [view.value_of_all(measure, days.first, days.last) for measure in measures]
    side = Side(
        "days", TiledArray.of_spans(days.first, groups), TiledArray.of_spans(days.last, groups)
    )
    behind = TiledArray.of_groups(groups, count)
    numbers = {measure.name: Value(view, measure, behind, side) for measure in measures}
    tied = tie_out(view, values, np.ones(len(group), bool)) | rows_note(view.facts.folded)
    meta = view.meta("recap") | {"per": query.per, "tie_out": tied}
    meta |= {"calendar": f"{view.calendar.describe()}; {other.describe()}"}
    answer = ViewLineage(query, view, behind, numbers)
    table = Result([*columns, *values], meta, answer)
    return table.sorted(query.order) if query.order else table
