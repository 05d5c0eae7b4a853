"""`recap`: one row per period and group, empty periods included."""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.days import Flags
from eptaro.core.dimension.recurring import RECURRING
from eptaro.core.folds.folded import rows_note
from eptaro.core.questions.answer import Answered, Side, Value
from eptaro.core.questions.by_attribute import attribute_of, recap_by
from eptaro.core.questions.largest import largest
from eptaro.core.questions.per_entry import LABEL, per_entry
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables import exact
from eptaro.core.tables.column import NO_NUMBERS, Column
from eptaro.core.tables.deferred import taken
from eptaro.core.tables.display import shown
from eptaro.core.tables.repeated import Repeated
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap.cross_tab import across
from eptaro.core.verbs.recap.periods import TOTAL, PeriodRows, spans_of
from eptaro.core.verbs.recap.ranks import rank_column
from eptaro.core.verbs.recap.shares import index_column, share_columns, with_running_shares
from eptaro.errors import EptaroError, QuestionError


def recap(facts: Facts, query: Recap) -> Table:
    """Summarise each period of a level: one row per group and period, in time order."""
    view = facts.view(query.by, query.only, query.as_of)
    if query.top is not None:
        view = largest(view, query.top, query.within_groups)
    if query.every is not None:
        return _per_entry(view, query)
    if query.per in RECURRING:
        query.check_attribute()
        table = recap_by(view, attribute_of(view, query.per), query)
        return table if query.sort is None else table.sorted(query.sort)
    with_total = query.totals or query.wide
    rows = PeriodRows.of(view, query.per, query.subtotal_levels, with_total=with_total)
    if query.wide:
        return across(view, rows, query, shares=query.shares)
    return _long(view, rows, query)


def _long(view: View, rows: PeriodRows, asked: Recap) -> Table:
    """Return one row per group and period, with shares and ranks where these are asked for."""
    count, groups, measures = len(rows), view.groups.count, view.facts.measures
    group, place = Repeated.of_groups(groups, count), Repeated.of_spans(np.arange(count), groups)
    first, last, parts = (Repeated.of_spans(p, groups) for p in (rows.first, rows.last, rows.parts))
    values = [view.value_of_all(m, rows.first, rows.last) for m in measures]
    beside = []
    for measure, value in zip(measures, values, strict=True):
        beside.append(value)
        if asked.shares:
            told = (np.asarray(group), np.asarray(place))
            beside += share_columns(view, measure, value, rows, *told)
        if asked.ranks:
            beside.append(rank_column(view, measure, value, rows))
        if asked.index is not None and value.kind not in NO_NUMBERS:
            beside.append(index_column(view, measure, value, rows, rows.labelled(asked.index)))
    side = Side("days", first, last)
    answer = Answered(
        asked,
        view,
        group,
        {m.name: Value(view, m, group, side) for m in measures},
        np.arange(len(group)),
        Repeated.of_spans(rows.of_level(TOTAL), groups),
    )
    tied = tie_out(view, values, np.asarray(parts)) | rows_note(view.facts.folded)
    meta = view.meta("recap") | {"per": asked.per, "tie_out": tied}
    head = [*view.groups.later(group), *taken(rows.head(), place), rows.complete_of_all(view)]
    table = Table([*head, *beside], meta, answer)
    order = np.arange(len(table)) if asked.sort is None else table.order(asked.sort)
    if asked.shares:
        table = with_running_shares(table, measures, np.asarray(parts), order)
    return table if asked.sort is None else table.take(order)


def _per_entry(view: View, asked: Recap) -> Table:
    """Return for each transaction the measures of the period that holds it."""
    if asked.every != "entry":
        raise QuestionError(f"every={asked.every!r}: a recap is one row per period, or per 'entry'")
    first, last, _, labelling = spans_of(view, asked.per)
    lengths = np.minimum(last, view.seen.hi) - np.maximum(first, view.seen.lo) + 1
    place = np.repeat(np.arange(len(first)), lengths)
    label = Column.text("period", labelling().astype(object)[place], description=LABEL)
    return per_entry(view, Side("days", first[place], last[place]), "", label, asked)


def _parts(count: int) -> str:
    return "1 part adds up to" if count == 1 else f"{count:,} parts add up to"


def tie_out(view: View, values: list[Column], parts: Flags) -> dict[str, str]:
    """Return for each additive measure the total that its parts were seen to add up to.

    The total is added up straight from the cells, not from the prefix sums that made the
    parts. Raises `EptaroError` on disagreement, which would be a fault of the library.
    """
    found = {}
    for measure, column in zip(view.facts.measures, values, strict=True):
        plane = measure.additive_plane
        if plane is None or column.kind == "float":
            continue
        keep = parts & ~column.blank
        come = exact.total(column.data[keep])
        total = view.cells.total(plane, view.seen.lo, view.seen.hi)
        if come != total:
            raise EptaroError(f"the parts of {measure.name} add up to {come}, not {total}")
        added = Column.of("", column.kind, np.array([come], object), scale=column.scale)
        found[measure.name] = f"{_parts(int(keep.sum()))} {shown(added)[0]}"
    return found
