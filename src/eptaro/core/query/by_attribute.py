"""Answers by recurring attributes such as weekdays: one row per value, or per pair of values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Cells, Tally
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.aggregation.selected import SelectedValues
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.grain import check_whole, first_days
from eptaro.core.calendars.levels import Names
from eptaro.core.calendars.span import Span
from eptaro.core.dimension.attribute import Sheet
from eptaro.core.dimension.recurring import HOUR, RECURRING
from eptaro.core.kernels.sorting import rank_rows, time_keys
from eptaro.core.measures.measure import Measure, term_over_cells
from eptaro.core.measures.stages import NestedAggregation
from eptaro.core.measures.term import DAYS
from eptaro.core.query.lineage import AttributeFilter, Side, Value, ViewLineage
from eptaro.core.query.query import Query
from eptaro.core.query.transactions import numbered_rows
from eptaro.core.query.view import View
from eptaro.core.results.column import Column, day_counts
from eptaro.core.results.format import DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError
from eptaro.record import record

_HOUR = 3_600_000_000_000  # nanoseconds


@record
class AttributeProduct:
    """One or two attributes: a place for each combination of their values.

    An attribute is a text column over the days seen, its choices all its values. `places` is
    the place of each day seen, without the hour; `counts` the days of each place.
    """

    attributes: Sequence[Column]
    size: int
    places: Ints
    counts: Ints

    @classmethod
    def of(cls, attributes: Sequence[Column]) -> AttributeProduct:
        """Return the combinations of attributes, the last one varying fastest."""
        size = int(np.prod([_value_count(attribute) for attribute in attributes]))
        places = np.zeros(len(attributes[0]), np.int64)
        hours = np.zeros(1, np.int64)
        for attribute in attributes:
            # The hour is no attribute of a day: its column is 0 throughout, and is added per
            # transaction.
            places = places * _value_count(attribute) + attribute.data
            hours = hours[:, None] * _value_count(attribute)
            hours = (hours + (np.arange(24) if attribute.name == HOUR else 0)).ravel()
        every = (places[:, None] + hours).ravel()  # a day has every hour
        return cls(attributes, size, places, np.bincount(every, minlength=size))

    @property
    def by_time(self) -> bool:
        """Whether the time of each transaction is needed."""
        return any(attribute.name == HOUR for attribute in self.attributes)

    @property
    def hour_step(self) -> int:
        """How many places one hour is."""
        step = 1
        for attribute in reversed(self.attributes):
            if attribute.name == HOUR:
                return step
            step *= _value_count(attribute)
        return 0

    def columns(self, place: Ints) -> list[Column]:
        """Return the values of each attribute at some places. `place` is `(n_rows,)`."""
        columns: list[Column] = []
        for attribute in reversed(self.attributes):
            place, own = np.divmod(place, _value_count(attribute))
            name, choices, text = (
                column_name(attribute.name),
                np.asarray(attribute.choices),
                f"The {attribute.name}",
            )
            texts = None if attribute.face is None else attribute.face.texts
            face = DisplayHint(attribute.name, Priority.KEY, texts=texts)
            columns.insert(0, Column.text(name, choices, own, description=text, face=face))
        return columns

    def words(self, place: Ints) -> dict[str, NDArray[Any]]:
        """Return for each attribute, by its name, the words at some places.

        `place` and the words are `(n_rows,)`.
        """
        columns = zip(self.attributes, self.columns(place), strict=True)
        return {attribute.name: column.unmasked() for attribute, column in columns}


def attribute_of(view: View, name: str) -> Column:
    """Return a recurring attribute over the days that a view sees.

    Raises `QuestionError` where days of a period of the data differ in it.
    """
    sheet = Sheet(view.seen, view.calendar, view.facts.workdays, Names())
    column, covered, grain = RECURRING[name].column(sheet), view.seen, view.facts.folded.grain
    if grain == "day":
        return column
    check_whole(np.array([covered.lo]), np.array([covered.hi]), grain)
    # A month falls on no weekday, but does lie in one quarter: what all its days share is known.
    opens = first_days(np.arange(covered.lo, covered.hi + 1), grain) - covered.lo
    if name == HOUR or (column.data != column.data[opens]).any():
        raise QuestionError(
            f"the data is dated by the {grain}, whose days differ in their {name}: what falls on "
            f"each is not known"
        )
    return column


def column_name(attribute: str) -> str:
    """Return what the column of an attribute is called.

    >>> column_name("day of month")
    'day_of_month'
    """
    return attribute.replace(" ", "_")


def _value_count(attribute: Column) -> int:
    """Return how many values an attribute may have."""
    assert attribute.choices is not None  # recurring attributes are text
    return len(attribute.choices)


def rows_by(view: View, crossed: AttributeProduct) -> tuple[Ints, Ints, list[Column], list[Column]]:
    """Return group and place of each row, its first columns, and its measures.

    There is a row for each group and combination that a day bears, in natural order. The
    columns are the groups, the attributes and `days` (how many days of the coverage bear
    it, so that sums can be put on equal terms).
    """
    for measure in view.facts.measures:
        if measure.looks_back:
            names = " and ".join(attribute.name for attribute in crossed.attributes)
            raise QuestionError(
                f"{measure.formula} goes by all days before; ask it of runs of days, not by {names}"
            )
    gathered = _by_hour if crossed.by_time else _by_day
    cells = dict[Gathered, Cells]()
    for measure in view.facts.measures:
        for name in measure.tables:
            common = _common_days(view, measure)
            if (name, common) not in cells:
                one = view.table(name)
                cells[name, common] = gathered(replace(one, coverage=common), crossed, view.seen)
    size, groups = crossed.size, view.groups.count
    group, place = np.repeat(np.arange(groups), size), np.tile(np.arange(size), groups)
    occurring = np.tile(crossed.counts > 0, groups)
    group, place = group[occurring], place[occurring]
    days = days_of(view, crossed, group, place, view.seen)
    head = [
        *view.groups.columns(group),
        *crossed.columns(place),
        day_counts(days, "Days of the coverage with it", Priority.BESIDE),
    ]
    values = [
        _value(view, crossed, cells, measure, group, place).blanked(
            days_of_measure(view, measure, crossed, group, place) > 0
        )
        for measure in view.facts.measures
    ]
    return group, place, head, values


def days_of_measure(
    view: View, measure: Measure, crossed: AttributeProduct, group: Ints, place: Ints
) -> Ints:
    """Return how many days that a measure's books all cover bear the values of each row.

    `group`, `place` and the result are `(n_rows,) int64`.
    """
    common = _common_days(view, measure)
    every = [
        days_of(replace(view.table(name), coverage=common), crossed, group, place, view.seen)
        for name in measure.tables
    ]
    days: Ints = np.minimum.reduce(every)
    return days


Gathered: TypeAlias = tuple[str, Span]  # a book of a set, and the days that it is looked at


def _common_days(view: View, measure: Measure) -> Span:
    """Return the days that every book of a measure covers; of one book, its coverage."""
    common = view.common_days(measure)
    if common is None:
        raise QuestionError(
            f"{' and '.join(measure.tables)} have no day in common up to the as-of date"
        )
    return common


def days_of(view: View, crossed: AttributeProduct, group: Ints, place: Ints, days: Span) -> Ints:
    """Return how many days of its group's coverage, of those seen, bear the values of each row.

    `group`, `place` and the result are `(n_rows,) int64`.
    """
    own = view.own_within(days)
    if own is None:
        return crossed.counts[place]
    if crossed.by_time:
        raise QuestionError(
            "coverage by groups, or books that cover other days, do not go by hours; leave one of "
            "them out, or narrow with only="
        )
    width = len(crossed.places)
    # Running counts of the days that bear each value, so that any coverage is one subtraction.
    bearing = np.zeros((width + 1, crossed.size), np.int64)
    bearing[np.arange(1, width + 1), crossed.places] = 1
    upto = bearing.cumsum(axis=0)
    lo = np.clip(own[0] - days.lo, 0, width)
    hi = np.maximum(np.clip(own[1] + 1 - days.lo, 0, width), lo)
    counts: Ints = upto[hi[group], place] - upto[lo[group], place]
    return counts


def recap_by(view: View, attribute: Column, query: Query) -> Result:
    """Return one row per group and value of an attribute, in natural order."""
    crossed = AttributeProduct.of([attribute])
    group, place, head, values = rows_by(view, crossed)
    meta = view.meta("recap") | {"per": attribute.name}
    return Result([*head, *values], meta, answer_by(view, crossed, query, group, place))


def answer_by(
    view: View, crossed: AttributeProduct, query: Query, group: Ints, place: Ints
) -> ViewLineage:
    """Return what is behind rows of groups and combinations of values.

    `group` and `place` are `(n_rows,) int64`.
    """
    every = np.zeros(len(group), np.int64)
    side = Side("days", every + view.seen.lo, every + view.seen.hi)
    attribute_filter = AttributeFilter(crossed.words(place))
    measures = view.facts.measures
    numbers = {m.name: Value(view, m, group, side, attribute_filter) for m in measures}
    return ViewLineage(query, view, group, numbers)


def _value(
    view: View,
    crossed: AttributeProduct,
    cells: Mapping[Gathered, Cells],
    measure: Measure,
    group: Ints,
    place: Ints,
) -> Column:
    """Return a measure per group and place of an attribute; `group` and `place` are `(n_rows,)`."""
    parts, common = [], _common_days(view, measure)
    for term in measure.terms:
        own = cells[term.table, common]
        lo = own.axis.cell_of(group, place)
        if term.inner is None or term.members is not None:
            parts.append(term_over_cells(own, term, lo, lo + 1))
            continue
        if crossed.by_time or term.grain not in DAYS:
            attribute = crossed.attributes[0].name
            fits = f"one on the totals of days, not of {term.grain}s"
            if crossed.by_time:
                attribute, fits = "hour", "a measure without totals of other spans"
            raise QuestionError(
                f"{measure.formula} cannot be calculated per {attribute}: use {fits}"
            )
        table, facts = replace(view.table(term.table), coverage=common), view.facts
        own_days = table.own_within(view.seen)
        stage = NestedAggregation(
            table.cells, view.seen, facts.calendar, facts.workdays, own=own_days
        )
        parts.append(stage.over_bearers(term, crossed.places, group, place))
    value = measure.of_terms(parts, view.facts.folded.formats)
    return value.named(measure.name, f"{measure.formula} over these days")


def _by_day(view: View, crossed: AttributeProduct, days: Span) -> Cells:
    """Return the cells of the days seen, gathered by the place of each day."""
    group, day = view.cells.axis.cells_of()
    lo, hi = max(days.lo, view.coverage.lo), min(days.hi, view.coverage.hi)
    inside = (day >= lo) & (day <= hi)
    place = crossed.places[np.clip(day - days.lo, 0, len(crossed.places) - 1)]
    # Places take the part of days, so that questions about days apply to them unchanged.
    axis = Axis(view.groups.count, 0, crossed.size)
    target = np.where(inside, group * axis.days + place, -1)
    tallies = {
        plane: _dated_tally(tally, day).move(target, axis.size)
        for plane, tally in view.cells.tallies.items()
    }
    return Cells(axis, tallies)


def _dated_tally(tally: Tally, day: Ints) -> Tally:
    """Return a tally whose first and last go by the day of their cell before its time.

    `day` is `(n_cells,)`.
    """
    if not isinstance(tally, SelectedValues) or tally.which in ("min", "max"):
        return tally
    return replace(tally, time=rank_rows(tally.row, tally.time, day[tally.cell]))


def hours_of(batch: Batch) -> Ints:
    """Return the hour of each transaction, -1 for one without a time; raises `QuestionError` where
    dates have no time.
    """
    if batch.times is None:
        raise QuestionError("the dates have no time of day; hours need timestamps")
    times = np.asarray(batch.times)
    return np.where(times < 0, -1, times // _HOUR % 24)


def places_of(
    seen_days: Span,
    crossed: AttributeProduct,
    group: NDArray[np.int32],
    batch: Batch,
    each: int = 1,
) -> tuple[Flags | slice, Ints]:
    """Return which transactions are seen, and `each` times the place of each of these.

    `group` is `(n_transactions,) int32`; there are as many places as transactions are seen.
    """
    lo, hi = seen_days.lo, seen_days.hi
    inside: Flags = (group >= 0) & (batch.days >= lo) & (batch.days <= hi)
    hours = hours_of(batch) if crossed.by_time else None
    if hours is not None:
        inside &= hours >= 0
    # Where there is nothing to pick out, the arrays serve as they are.
    inside_rows: Flags | slice = slice(None) if inside.all() else inside
    place = (crossed.places * each)[batch.days[inside_rows] - np.int32(lo)]
    if hours is not None:
        place += hours[inside_rows] * (crossed.hour_step * each)
    return inside_rows, place


def _by_hour(view: View, crossed: AttributeProduct, days: Span) -> Cells:
    """Return cells of group and place, from the transactions themselves."""
    number, onto, batch = numbered_rows(view)
    inside, place = places_of(days, crossed, onto.astype(np.int32)[number], batch)
    groups = {"place": Categorical(number[inside].astype(np.int32), _place_column(len(onto)))}
    values, distinct = batch.values, batch.distinct
    if not isinstance(inside, slice):
        seen_cells = np.flatnonzero(inside)
        values = {name: column.take(seen_cells) for name, column in values.items()}
        distinct = {name: coded.at(seen_cells) for name, coded in distinct.items()}
    planes = {plane for m in view.facts.measures for plane in m.planes}
    times = None
    if any(plane.what in ("first", "last") for plane in planes):
        assert batch.times is not None
        times = time_keys(batch.days[inside], batch.times[inside])
    single = Batch(place.astype(np.int32), groups, values, distinct, times)
    fold = Fold(["place"], planes)
    fold.add(single)
    kept_groups, cells = fold.result()
    own = kept_groups.columns(np.arange(kept_groups.count))[0].data
    cells = cells.regroup(onto[own], view.groups.count)
    wide = Axis(view.groups.count, 0, crossed.size)
    target = cells.axis.onto(wide)
    return Cells(wide, {p: t.move(target, wide.size) for p, t in cells.tallies.items()})


def _place_column(count: int) -> Column:
    return Column.of("place", "integer", np.arange(count))
