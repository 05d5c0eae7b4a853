"""Answering queries of a book in shards without all its cells in memory.

Where a question leaves group columns out, each shard's cells are added up to fewer groups, and
these put together. Where it names them all, each shard is asked by itself; what it needs to know
of the groups elsewhere (the result of all, by which a share goes) is gathered from all before.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache, partial
from itertools import chain
from typing import Any, TypeVar

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Categorical, Groups, unknown_group
from eptaro.core.aggregation.merge import numbered_together
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import LAST_DAY, Flags
from eptaro.core.measures.measure import Measure
from eptaro.core.query.coverage import GroupSpans
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import (
    EVERY,
    Filter,
    Only,
    Query,
    group_names,
    looked_at,
    nothing_left,
    values_apart,
)
from eptaro.core.query.totals import GroupSet, ReducedBook
from eptaro.core.query.view import NOTES, OTHERS, BookData, View, group_sizes, leading_groups
from eptaro.core.results.column import AnyColumn, Column, coded_once, join_columns
from eptaro.core.results.result import NoLineage, Parts, Result
from eptaro.core.verbs.layouts.shares import running_name, with_running_shares
from eptaro.core.verbs.periods import TOTAL
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.store import answer, check_in_parts, check_labels
from eptaro.errors import NothingLeftError, QuestionError, unknown
from eptaro.record import record
from eptaro.sharded.shard_query import (
    BookContext,
    PartialTotals,
    PickedBefore,
    ShardQuery,
    WantedGroups,
    groups_with,
    reduce_groups,
    resolve_blanks,
    shards_with,
    values_present,
)
from eptaro.sharded.shards import Shards

Done = TypeVar("Done")
Each = Callable[[Callable[[int, Result], Done]], list[Done]]


def in_shards(
    each: Each[Any],
    by: Sequence[str],
    finished: Callable[[Result], Result],
    of_all: Callable[[], Result] | None = None,
) -> Result:
    """Return the result of which each shard makes its own part.

    `each` calls a function with every part, where the part is, and returns the results.
    """
    whole = of_all and cache(of_all)
    return Result.of_parts(
        Parts(each, lambda: finished(concatenate_tables(each(_without_lineage), by)), whole)
    )


def _without_lineage(shard: int, table: Result) -> Result:
    return Result(table.columns, table.meta)  # columns not made yet would keep the shard's cells


def concatenate_tables(tables: Sequence[Result], by: Sequence[str]) -> Result:
    """Return the tables of several shards as one, in the order of groups and time."""
    if not tables:
        raise QuestionError("no transactions are left to look at")
    head = tables[0]
    names = [name for name in head.names if all(name in table for table in tables)]
    columns = [_stack_columns([table.column(name) for table in tables]) for name in names]
    meta = dict(head.meta)
    for table in tables:
        # Notes are of single rows, so those of any shard hold for the table.
        meta |= {key: table.meta[key] for key in NOTES if key in table.meta}
    if "tie_out" in meta:
        context = f"the parts add up in each of {len(tables)} shards"
        meta["tie_out"] = {n: t if n == "rows" else context for n, t in meta["tie_out"].items()}
    if len(tables) > 1:
        _, places = numbered_together([_groups(table, by) for table in tables])
        # Within a group the rows are in time order already, and stay so.
        order = np.argsort(np.concatenate(places), kind="stable")
        columns = [column.take(order) for column in columns]
    return Result(columns, meta)


def _stack_columns(parts: Sequence[Column]) -> Column:
    """Return columns one below the other; one that is all blank is of whatever kind others are."""
    # An empty column of floats, say, must not make decimals of other shards inexact.
    kinds = [part for part in parts if not part.blank.all()] or [parts[0]]
    like = kinds[0]
    alike = [
        part
        if part.kind == like.kind or not part.blank.all()
        else replace(
            like, data=np.zeros(len(part), like.data.dtype), valid=np.zeros(len(part), bool)
        )
        for part in parts
    ]
    return join_columns(alike)


def _groups(table: Result, by: Sequence[str]) -> Groups:
    return Groups(
        {name: _encode_groups(table.column(name)) for name in by}, len(table)
    ).drop_unused()


def _encode_groups(column: Column) -> Categorical:
    """Return a column of groups as codes."""
    if column.kind == "text":
        column = coded_once(column)  # answers on several calendars were joined
        choices = np.array([], object) if column.choices is None else column.choices
        return Categorical(column.data, Column.text(column.name, choices))
    met, codes = np.unique(column.data, return_inverse=True)
    codes = np.where(column.blank, -1, codes).astype(np.int32, copy=False)
    plain = Column.of(column.name, column.kind, met, unit=column.unit)
    return Categorical(np.asarray(codes, np.int32), plain)


def as_parts(table: Result, query: Query, measures: Sequence[Measure]) -> Result:
    """Return a shard's answer without traces, and without running shares, which go by the order of
    all rows.
    """
    shares = isinstance(query, Recap) and query.shares
    running = {running_name(measure) for measure in measures} if shares else set()
    columns = [column for column in table.lazy_columns if column.name not in running]
    return Result(columns, table.meta)


def finish_rows(
    table: Result, query: Query, measures: Sequence[Measure], behind: NoLineage
) -> Result:
    """Return all rows in the order that was asked for, with running shares where they were."""
    table = Result(table.lazy_columns, table.meta, behind)
    order = table.order(query.order) if query.order else np.arange(len(table))
    if isinstance(query, Recap) and query.shares:
        parts = np.asarray(table.column("period").unmasked() != TOTAL, bool)
        if "level" in table:
            parts &= table.column("level").unmasked() == query.per
        table = with_running_shares(table, measures, parts, order)
    return table.take(order) if query.order else table


def side_by_side(
    answers: Sequence[tuple[Result, PartialTotals]], every: PartialTotals | None, behind: NoLineage
) -> Result:
    """Return the cross-tabs of some groups each as one, the groups in natural order; each has the
    totals of all at its end.
    """
    assert every is not None
    head = answers[0][0]
    first = head.names.index(head.meta["heads"][0])
    blocks: dict[int, list[AnyColumn]] = {}
    for table, mine in answers:
        groups = _name_groups(mine).groups
        columns = table.lazy_columns[first:]
        width = len(columns) // (groups.count + 1)
        for at, place in enumerate(_name_groups(every).places(groups).tolist()):
            blocks[place] = columns[at * width : (at + 1) * width]
    totals = head.lazy_columns[-width:]
    columns = [*(column for place in sorted(blocks) for column in blocks[place]), *totals]
    heads = {name for table, _ in answers for name in table.meta["heads"]}
    meta = head.meta | {"heads": [column.name for column in columns if column.name in heads]}
    for table, _ in answers:
        meta |= {key: table.meta[key] for key in NOTES if key in table.meta}
    return Result([*head.lazy_columns[:first], *columns], meta, behind)


def _name_groups(gathered: PartialTotals) -> GroupSet:
    (names,) = (part for of, part in gathered.shares.items() if of[1] == "names")
    names_of = names[0]
    assert isinstance(names_of, GroupSet)
    return names_of


_OTHERS = "others"


def answer_top(shards: Shards, names: list[str], ask: ShardQuery, query: Recap) -> Result:
    """Answer with the largest groups of all, and the others as one: of each shard its own largest
    are looked at, then cells are put together.
    """
    within = query.within_groups
    target = [name for name in names if name not in within]
    leaders = shards.reduce(
        partial(_leaders, ask=ask, count=query.top or 0, within=within), TopGroups.combine
    )
    assert leaders is not None  # some shard has rows: it was asked before
    reduced = shards.reduce(
        partial(_with_others, ask=ask, leaders=leaders.groups, top_names=target),
        ReducedBook.combine,
    )
    assert reduced is not None
    folded, spans, others = _split_by_column(reduced, names, target)
    facts = ask.context.facts(folded, spans, PickedBefore(others, bool(ask.wanted)))
    return answer(facts, replace(query, only=ask.others or None))


@record
class TopGroups:
    """The largest groups, so many within each value of some of their columns, with their sizes."""

    groups: Groups
    size: Column
    count: int
    within: Sequence[str]

    def largest(self) -> TopGroups:
        """Return no more than are asked for."""
        leading = leading_groups(self.groups, self.size, self.count, self.within)
        at = np.flatnonzero(leading)
        return replace(self, groups=self.groups.at(at).drop_unused(), size=self.size.take(at))

    def combine(self, other: TopGroups) -> TopGroups:
        """Return the largest groups of both."""
        groups, places = numbered_together([self.groups, other.groups])
        order = np.argsort(np.concatenate(places), kind="stable")
        size = join_columns([self.size, other.size]).take(order)
        return replace(self, groups=groups, size=size).largest()


def _view(ask: ShardQuery, folded: Folded) -> View | None:
    facts_of_ask = ask.facts(folded)
    if facts_of_ask is None:
        return None
    facts, _, only = facts_of_ask
    try:
        return facts.view(ask.query.by, only, ask.query.as_of)
    except NothingLeftError:
        return None


def _leaders(
    shard: int, folded: Folded, ask: ShardQuery, count: int, within: Sequence[str]
) -> TopGroups | None:
    view = _view(ask, folded)
    return (
        None if view is None else TopGroups(view.groups, group_sizes(view), count, within).largest()
    )


def _with_others(
    shard: int, folded: Folded, ask: ShardQuery, leaders: Groups, top_names: Sequence[str]
) -> ReducedBook | None:
    """Return the cells of the leaders of a shard, and those of its other groups put together: the
    last column distinguishes them, and what picks groups is blank.
    """
    view = _view(ask, folded)
    if view is None:
        return None
    groups = view.groups
    _, (own, theirs) = numbered_together([groups, leaders])
    is_chosen: Flags = np.isin(own, theirs)
    # Of groups that are not chosen only the columns within which the largest were chosen are kept.
    coded = {
        name: Categorical(np.where(is_chosen, c.codes, -1).astype(np.int32), c.choices)
        if name in top_names
        else c
        for name, c in groups.coded.items()
    }
    coded[_unused_name(groups.names)] = Categorical(
        is_chosen.astype(np.int32), Column.text("", [_OTHERS, "own"])
    )
    # Blank is what a real group may be called, too: a column of a name that no other has keeps
    # them apart.
    fewer, onto = Groups(coded, groups.count).onto([*coded])
    spans, own_spans = view.facts.spans, None
    if spans is not None:
        target = np.where(view.places < 0, -1, onto[view.places])
        own_spans = GroupSpans(*spans.onto(target, fewer.count, LAST_DAY), spans.asked)
    cells = view.cells.regroup(onto, fewer.count)
    return ReducedBook(replace(folded, groups=fewer.drop_unused(), cells=cells), own_spans)


def _unused_name(names: Sequence[str]) -> str:
    """Return a name that no group column has."""
    name = OTHERS
    while name in names:
        name += "'"
    return name


def _split_by_column(
    reduced: ReducedBook, names: Sequence[str], target: Sequence[str]
) -> tuple[Folded, GroupSpans | None, Flags]:
    """Return what was folded without the last column, and which groups are all others; a value of
    their own keeps these from groups that are blank.
    """
    folded, own = reduced.folded, reduced.own
    apart = folded.groups.coded[_unused_name(names)]
    others = np.array([word == _OTHERS for word in apart.choices.to_list()])[apart.codes]
    coded = {name: folded.groups.coded[name] for name in names}
    for name in target:
        codes, choices = coded[name].codes, coded[name].choices
        count = len(choices)
        more = Column.text(name, [OTHERS])
        if count:
            more = choices.take(np.append(np.arange(count), 0))
        coded[name] = Categorical(np.where(others, count, codes).astype(np.int32), more)
    groups, onto = Groups(coded, folded.groups.count).onto(names)
    cells = folded.cells.regroup(onto, groups.count)
    if own is not None:
        own = GroupSpans(*own.onto(onto, groups.count, LAST_DAY), own.asked)
    moved = np.zeros(groups.count, bool)
    moved[onto] = others
    return replace(folded, groups=groups, cells=cells), own, moved


_MOST_NAMED = 50


def ask_shards(shards: Shards, count: int, context: BookContext, query: Query) -> Result:
    """Return the answer to a query; `count` is how many shards there are.

    Raises what the verb raises.
    """
    names_known = context.rows.groups.names
    if context.own is not None:
        check_in_parts(context.own, names_known, query)
    every = shards
    shards, names, values_by_name = _relevant_shards(every, count, context, query)
    _check_labels(shards, context, values_by_name, query)
    # Shards hold whole groups: only a question by all columns can be answered one shard after the
    # other.
    if not {*names_known} <= {*names} or not names_known:
        needed = [name for name in names_known if name in names or name in values_by_name]
        return _of_fewer(shards, context, needed, values_by_name, query)
    if _any_missing(shards, values_by_name):
        raise _not_found(every, context, values_by_name, query)
    others, _ = values_apart(query.only, names_known)
    return _of_each(
        shards,
        names,
        ShardQuery(context, replace(query.without_sort(), only=None), others, values_by_name),
        query,
    )


def _check_labels(
    shards: Shards, context: BookContext, values_by_name: WantedGroups, query: Query
) -> None:
    """Raise `QuestionError` for a label that is none of the calendar, or of those that the wanted
    groups keep. Here the error names all columns; what a shard is asked may have fewer.
    """
    own, names = context.own, context.rows.groups.names
    today, _ = looked_at(query.as_of, context.coverage, context.rows.grain)
    if own is None:
        Filter.of(query.only, context.calendar, names, today)
        return
    try:
        check_labels(own, own.every, query, names, today)
    except QuestionError:  # maybe of a calendar that no wanted group keeps
        kept = shards.each(partial(_calendars_kept, own=own, values=values_by_name))
        check_labels(own, {*chain.from_iterable(kept)}, query, names, today)


def _calendars_kept(
    shard: int, folded: Folded, own: OwnCalendars, values: WantedGroups
) -> list[Calendar]:
    wanted = groups_with(folded.groups, values)
    flags_by_calendar = own.of_groups(folded.groups, folded.source)
    return [calendar for calendar, flags in flags_by_calendar.items() if (flags & wanted).any()]


def view_of_shards(shards: Shards, count: int, context: BookContext, query: Query) -> View:
    """Return what a query looks at, the cells of all shards put together."""
    names_known = context.rows.groups.names
    shards, names, values_by_name = _relevant_shards(shards, count, context, query)
    needed = [name for name in names_known if name in names or name in values_by_name]
    facts, only = _facts_of_fewer(shards, context, needed, values_by_name, query)
    return facts.view(query.by, only, query.as_of)


def _relevant_shards(
    shards: Shards, count: int, context: BookContext, query: Query
) -> tuple[Shards, list[str], WantedGroups]:
    """Return the shards that a query looks at, its group columns, and the wanted values."""
    names_known = context.rows.groups.names
    names = group_names(query.by)
    if names == [EVERY] and EVERY not in names_known:
        names = names_known
    for name in names:
        if name not in names_known:
            raise unknown_group(name, names_known)
    _, given_values = values_apart(query.only, names_known)
    for name in given_values:
        if name not in names_known:
            raise unknown_group(name, names_known)
    values_by_name = resolve_blanks(shards, given_values)
    every, with_values = shards, shards_with(names_known, values_by_name, count)
    if with_values is not None:
        shards = shards.among(with_values)
        # Hashes say where a value would be, not that it is there.
        if shards.first(partial(_any_of, values=values_by_name)) is None:
            raise _not_found(every, context, values_by_name, query)
    return shards, names, values_by_name


def _of_fewer(
    shards: Shards, context: BookContext, names: list[str], values: WantedGroups, query: Query
) -> Result:
    """Answer from the cells of fewer groups, which are put together from all shards."""
    facts, only = _facts_of_fewer(shards, context, names, values, query)
    return answer(facts, replace(query, only=only))


def _facts_of_fewer(
    shards: Shards,
    context: BookContext,
    names: list[str],
    wanted_values: WantedGroups,
    query: Query,
) -> tuple[BookData, Only]:
    """Return the facts of fewer groups, and what narrows a query to them."""
    work = partial(
        _reduce_shard,
        names=names,
        values=wanted_values,
        spans=context.asked,
        coverage=context.coverage,
    )
    reduced = shards.reduce(work, ReducedBook.combine)
    if reduced is None:
        raise _not_found(shards, context, wanted_values, query)
    only = query.only
    present = values_present(reduced.folded.groups, wanted_values)
    if present != {name: [*values] for name, values in wanted_values.items()}:
        wrong = _not_found(shards, context, wanted_values, query)
        if not isinstance(wrong, NothingLeftError):
            raise wrong
        others, _ = values_apart(query.only, context.rows.groups.names)
        only = [*others, present]  # the other values occur beside others alone
    return context.facts(reduced.folded, reduced.own), only


def _reduce_shard(shard: int, folded: Folded, **how: Any) -> ReducedBook | None:
    return reduce_groups(folded, **how)


def _of_each(shards: Shards, names: list[str], ask: ShardQuery, query: Query) -> Result:
    """Answer shard by shard; the first that has rows finds what is wrong with it."""
    context, values_by_name = ask.context, ask.wanted
    tried = shards.first(partial(_try_shard, ask=replace(ask, few=True)))
    if tried is None:
        if values_by_name and shards.first(partial(_any_of, values=values_by_name)) is None:
            raise _not_found(shards, context, values_by_name, query)
        raise _nothing_left(context, query)
    if query.of_all_groups:
        return _of_fewer(shards, context, names, values_by_name, query)
    if isinstance(query, Recap) and query.top:
        return answer_top(shards, names, ask, query)
    answered, goes_by_all = tried
    calendar = None if context.own is not None else context.calendar
    behind = NoLineage(answered, tuple(names), tuple(m.name for m in context.measures), calendar)
    if goes_by_all:
        every = shards.reduce(partial(_shares, ask=ask), PartialTotals.combine)
        ask = replace(ask, every=every)
        shards.first(partial(_try_shard, ask=replace(ask, few=True)))
        if isinstance(query, Recap) and query.wide:
            return side_by_side([*shards.each(partial(_answer_of_shard, ask=ask))], every, behind)
    return in_shards(
        lambda work: [*shards.each(partial(_work_on_answer, ask=ask, work=work))],
        names,
        partial(finish_rows, query=query, measures=context.measures, behind=behind),
        partial(_of_all, shards, context, values_by_name, query),
    )


def _of_all(shards: Shards, context: BookContext, values: WantedGroups, query: Query) -> Result:
    """Answer the same query of all groups together, or of those that keep calendars, in the order
    of time.
    """
    by = None if context.own is None else context.own.column
    needed = [name for name in context.rows.groups.names if name in values or name == by]
    return _of_fewer(shards, context, needed, values, replace(query.without_sort(), by=by))


def _try_shard(shard: int, folded: Folded, ask: ShardQuery) -> tuple[object, bool] | None:
    """Return a question, and whether it goes by all groups; None where a shard has no rows."""
    answer = ask(shard, folded)
    if answer is None:
        return None
    table, mine = answer
    assert table.answer is not None
    return table.answer.question, bool(mine.shares)


def _answer_of_shard(
    shard: int, folded: Folded, ask: ShardQuery
) -> tuple[Result, PartialTotals] | None:
    """Return what a shard answers, without its view, and its shares of the whole."""
    answer = ask(shard, folded)
    return None if answer is None else (Result(answer[0].columns, answer[0].meta), answer[1])


def _shares(shard: int, folded: Folded, ask: ShardQuery) -> PartialTotals | None:
    answer = ask(shard, folded)
    return None if answer is None else answer[1]


def _work_on_answer(shard: int, folded: Folded, ask: ShardQuery, work: Any) -> Any:
    """Do some work with what a shard answers."""
    answer = ask(shard, folded)
    return (
        None
        if answer is None
        else work(shard, as_parts(answer[0], ask.query, ask.context.measures))
    )


def _any_missing(shards: Shards, wanted_values: WantedGroups) -> bool:
    """Return whether any of several wanted values occurs in no shard. Of one value in each column,
    the shard that answers has all.
    """
    missing = {(name, str(value)) for name, values in wanted_values.items() for value in values}
    if len(missing) == len(wanted_values):
        return False
    for present in shards.each(partial(_present, wanted_values=wanted_values)):
        missing -= present
        if not missing:
            return False
    return True


def _present(shard: int, folded: Folded, wanted_values: WantedGroups) -> set[tuple[str, str]]:
    present = values_present(folded.groups, wanted_values)
    return {(name, str(value)) for name, values in present.items() for value in values}


def _any_of(shard: int, folded: Folded, values: WantedGroups) -> bool | None:
    return all(values_present(folded.groups, values).values()) or None


def _not_found(
    shards: Shards, context: BookContext, wanted_values: WantedGroups, query: Query
) -> QuestionError:
    """Return the error for values that occur in no shard, with some that do, or in no group."""
    met: dict[str, set[str]] = {}
    some: dict[str, set[str]] = {}
    for values_by_name, choices in shards.each(partial(_values, wanted_values=wanted_values)):
        for name in wanted_values:
            met.setdefault(name, set()).update(values_by_name[name])
            some.setdefault(name, set()).update(choices[name])
    for name, values in wanted_values.items():
        for value in values:
            if value is not None and str(value) not in met.get(name, ()):
                return QuestionError(unknown(f"value of {name}", value, sorted(some[name])))
    return _nothing_left(context, query)


def _nothing_left(context: BookContext, query: Query) -> NothingLeftError:
    _, coverage = looked_at(query.as_of, context.coverage, context.rows.grain)
    return nothing_left(coverage)


def _values(shard: int, folded: Folded, wanted_values: WantedGroups) -> tuple[Any, Any]:
    values_by_name = {
        name: {str(v) for v in values}
        for name, values in values_present(folded.groups, wanted_values).items()
    }
    choices = {
        name: [str(v) for v in folded.groups.coded[name].choices.to_list()][:_MOST_NAMED]
        for name in wanted_values
    }
    return values_by_name, choices
