"""`recap`: one row per period and group, empty periods included."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eptaro.core.aggregation.folded import rows_note
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.calendars.span import Span
from eptaro.core.kernels import bigint
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import InParts, Side, Value, ViewLineage
from eptaro.core.query.view import NOTES, BookData, View, top_groups
from eptaro.core.results.column import (
    NO_NUMBERS,
    Column,
    TiledArray,
    join_columns,
    take_lazy,
    with_shown_labels,
)
from eptaro.core.results.format import format_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.periods import TOTAL, PeriodRows, spans_of
from eptaro.core.verbs.queries import EACH_PERIOD, Recap
from eptaro.errors import EptaroError, QuestionError, show_option

_MOST_PERIODS = 2_000  # of which each has its own largest groups


def recap(facts: BookData, query: Recap) -> Result:
    """Summarise each period of a level; see `Recap`."""
    view = facts.view(query.by, query.only, query.as_of)
    if query.top is not None:
        if query.ranks_each_period:
            return _top_of_each_period(view, query)
        view = top_groups(view, query.top, query.within_groups)
    if query.every is not None:
        return _recap_per_entry(view, query)
    if query.recurs:
        from eptaro.core.query.by_attribute import attribute_of, recap_by

        query.check_attribute()
        table = recap_by(view, attribute_of(view, query.per), query)
        return table if query.sort is None else table.sorted(query.sort)
    with_total = query.totals or query.wide
    rows = PeriodRows.of(view, query.per, query.subtotal_levels, with_total=with_total)
    if query.wide:
        from eptaro.core.verbs.layouts.wide import recap_across

        return recap_across(view, rows, query, shares=query.shares)
    return _recap_long(view, rows, query)


def _top_of_each_period(view: View, query: Recap) -> Result:
    """Return of each period the rows of its own largest groups, and of all others as one group."""
    assert query.top is not None
    if query.recurs:
        raise QuestionError(
            f"{show_option('top_within', EACH_PERIOD)} looks at "
            "periods of time, and does not go with " + show_option("per", query.per)
        )
    within = [name for name in query.within_groups if name != EACH_PERIOD]
    first, last, _, _ = spans_of(view, query.per)
    if len(first) > _MOST_PERIODS:
        raise QuestionError(
            f"{show_option('top_within', EACH_PERIOD)} looks at {len(first):,} "
            f"periods, and {_MOST_PERIODS:,} "
            f"are the most; narrow with only=, or take wider periods"
        )
    tables = []
    for span in zip(first.tolist(), last.tolist(), strict=True):
        own = top_groups(replace(view, window=Span.of(*span), cache={}), query.top, within)
        rows = PeriodRows.of(own, query.per, (), with_total=False)
        tables.append(_recap_long(own, rows, replace(query, sort=None)))
    columns = [join_columns(list(same)) for same in zip(*(t.columns for t in tables), strict=True)]
    parts = [t.answer for t in tables if isinstance(t.answer, ViewLineage)]
    values = [next(c for c in columns if c.name == m.name) for m in view.facts.measures]
    every = np.ones(len(columns[0]), bool)
    tied = tie_out(view, values, every) | rows_note(view.facts.folded)
    meta = view.meta("recap") | {"per": query.per, "tie_out": tied}
    meta |= {key: t.meta[key] for t in tables for key in (*NOTES, "others") if key in t.meta}
    table = Result(columns, meta, InParts.of(parts))
    return table.sorted(query.order) if query.order else table


def _recap_long(view: View, rows: PeriodRows, query: Recap) -> Result:
    """Return one row per group and period, with shares and ranks where these are asked for."""
    count, groups, measures = len(rows), view.groups.count, view.facts.measures
    group, place = (
        TiledArray.of_groups(groups, count),
        TiledArray.of_spans(np.arange(count), groups),
    )
    first, last, parts = (
        TiledArray.of_spans(p, groups) for p in (rows.first, rows.last, rows.parts)
    )
    values = [view.value_of_all(m, rows.first, rows.last) for m in measures]
    beside = list(values)
    if query.shares or query.ranks or query.index is not None or query.goals is not None:
        words = np.asarray(group), np.asarray(place)
        beside = _with_more(view, values, rows, words, query)
    side = Side("days", first, last)
    answer = ViewLineage(
        query,
        view,
        group,
        {m.name: Value(view, m, group, side) for m in measures},
        total=TiledArray.of_spans(rows.of_level(TOTAL), groups),
    )
    tied = tie_out(view, values, np.asarray(parts)) | rows_note(view.facts.folded)
    meta = view.meta("recap") | {"per": query.per, "tie_out": tied}
    head = [*view.groups.later(group), *take_lazy(rows.head(), place), rows.complete_of_all(view)]
    table = Result([*head, *beside], meta, answer)
    order = table.order(query.order) if query.order else None
    if query.shares:
        from eptaro.core.verbs.layouts.shares import with_running_shares

        table = with_running_shares(table, measures, np.asarray(parts), order)
    return table if order is None else table.take(order)


def _with_more(
    view: View, values: list[Column], rows: PeriodRows, words: tuple[Ints, Ints], query: Recap
) -> list[Column]:
    """Return the values of measures, each with its shares, rank, index and goals where these are
    asked for; `words` is the group and the place among periods of each row.

    The arrays of `words` are `(n_rows,)`.
    """
    from eptaro.core.verbs.layouts import shares

    columns = []
    for measure, value in zip(view.facts.measures, values, strict=True):
        columns.append(value)
        if query.shares:
            columns += shares.share_columns(view, measure, value, rows, *words)
        if query.ranks:
            columns.append(shares.rank_column(view, measure, value, rows))
        if query.index is not None and value.kind not in NO_NUMBERS:
            at = rows.row_of_label(query.index)
            columns.append(shares.index_column(view, measure, value, rows, at))
        if query.goals is not None:
            columns += _goals_of_rows(view, measure, value, rows, words, query)
    return columns


def _goals_of_rows(
    view: View,
    measure: Measure,
    value: Column,
    rows: PeriodRows,
    words: tuple[Ints, Ints],
    query: Recap,
) -> list[Column]:
    """Return a measure's goals, for rows of every level that they are for or make up, up to the
    last day looked at.

    The arrays of `words` are `(n_rows,)`.
    """
    from eptaro.core.verbs.goals import GoalRows, finest_level, goals_of, goals_of_some

    goals = goals_of(query.goals, measure, view.facts.measures)
    if goals is None:
        return []
    group, place = words
    labels = np.array([str(label) for label in rows.labels.to_list()])
    last = np.minimum(rows.last, view.seen.hi)
    least, parts = finest_level(view, goals), []
    for level in rows.levels:
        if level not in LEVELS or LEVELS.index(level) > least:
            continue
        mine = np.flatnonzero(rows.of_level(level)[place])
        names, label_at = np.unique(labels[place[mine]], return_inverse=True)
        parts.append((mine, GoalRows(level, names, group[mine], label_at, last[place[mine]])))
    if not parts:
        period = LEVELS[least] if goals else "period of the calendar"
        raise QuestionError(f"goals are for each {period}, not for {show_option('per', query.per)}")
    return goals_of_some(view, measure, goals, query.pace, parts, value)


def _recap_per_entry(view: View, query: Recap) -> Result:
    """Return for each transaction the measures of the period that holds it."""
    from eptaro.core.query.transactions import LABEL, per_row

    if query.every != "entry":
        raise QuestionError(
            f"{show_option('every', query.every)}: a recap is one row per period, or per 'entry'"
        )
    first, last, _, labelling = spans_of(view, query.per)
    lengths = np.minimum(last, view.seen.hi) - np.maximum(first, view.seen.lo) + 1
    place = np.repeat(np.arange(len(first)), lengths)
    label = Column.text("period", labelling().astype(object)[place], description=LABEL)
    label = with_shown_labels(label, view.calendar)
    table = per_row(view, Side("days", first[place], last[place]), "", label, query)
    return table if query.sort is None else table.sorted(query.sort)


def _describe_parts(count: int) -> str:
    return "1 part adds up to" if count == 1 else f"{count:,} parts add up to"


def tie_out(view: View, values: list[Column], parts: Flags) -> dict[str, str]:
    """Return for each additive measure the total that its parts were seen to add up to.

    `parts` is `(n_rows,) bool`: which rows are parts, and no totals.

    The total is added up straight from the cells, not from the prefix sums that made the
    parts. Raises `EptaroError` on disagreement, which would be a fault of the library.
    """
    notes = {}
    for measure, column in zip(view.facts.measures, values, strict=True):
        plane = measure.additive_plane
        if plane is None or column.kind == "float":
            continue
        keep = parts & ~column.blank
        sum_of_parts = bigint.exact_total(column.data[keep])
        covered, cells = view.seen, view.table(measure.term.table).cells
        total = cells.total(plane, covered.lo, covered.hi)
        if sum_of_parts != total:
            raise EptaroError(f"the parts of {measure.name} add up to {sum_of_parts}, not {total}")
        added = Column.of("", column.kind, np.array([sum_of_parts], object), scale=column.scale)
        notes[measure.name] = f"{_describe_parts(int(keep.sum()))} {format_column(added)[0]}"
    return notes
