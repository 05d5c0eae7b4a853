"""Questions of a book in shards, answered without all its cells in memory.

Where a question leaves group columns out, each shard's cells are added up to fewer groups, and
these put together. Where it names them all, each shard is asked by itself; what it needs to know
of the groups elsewhere (what all come to, by which a share goes) is gathered from all before.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from eptaro.core.calendars.days import LAST_DAY, Flags
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.merge import numbered_together
from eptaro.core.questions.coverage import GroupSpans
from eptaro.core.questions.query import Query
from eptaro.core.questions.scope import EVERY, Only, group_names, looked_at, values_apart
from eptaro.core.questions.view import OTHERS, Facts, View, leading, sizes
from eptaro.core.questions.whole import Fewer
from eptaro.core.tables.answer import Untraced
from eptaro.core.tables.column import Column, join
from eptaro.core.tables.result import Result
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.store import answer, check_in_parts
from eptaro.errors import NothingLeftError, QuestionError, unknown
from eptaro.sharded.questions.narrowed import Wanted, narrowed, present, settled, shards_with
from eptaro.sharded.questions.table import as_parts, finished, in_shards, side_by_side
from eptaro.sharded.questions.told import Ask, Gathered, PickedBefore, Told
from eptaro.sharded.shards import Shards

_OTHERS = "others"


def topped(shards: Shards, names: list[str], ask: Ask, query: Recap) -> Result:
    """Answer with the largest groups of all, and the others as one: of each shard its own largest
    are looked at, then cells are put together.
    """
    within = query.within_groups
    picked = [name for name in names if name not in within]
    leaders = shards.joined(
        partial(_leaders, ask=ask, count=query.top or 0, within=within), Leaders.beside
    )
    assert leaders is not None  # some shard has rows: it was asked before
    found = shards.joined(
        partial(_with_others, ask=ask, leaders=leaders.groups, picked=picked), Fewer.beside
    )
    assert found is not None
    folded, spans, others = _told_apart(found, names, picked)
    facts = ask.told.facts(folded, spans, PickedBefore(others, bool(ask.wanted)))
    return answer(facts, replace(query, only=ask.others or None))


@dataclass(frozen=True, eq=False)
class Leaders:
    """The largest groups, so many within each value of some of their columns, with their sizes."""

    groups: Groups
    size: Column
    count: int
    within: Sequence[str]

    def largest(self) -> Leaders:
        """Return no more than are asked for."""
        kept = leading(self.groups, self.size, self.count, self.within)
        at = np.flatnonzero(kept)
        return replace(self, groups=self.groups.at(at).only_used(), size=self.size.take(at))

    def beside(self, other: Leaders) -> Leaders:
        """Return the largest groups of both."""
        groups, places = numbered_together([self.groups, other.groups])
        order = np.argsort(np.concatenate(places), kind="stable")
        size = join([self.size, other.size]).take(order)
        return replace(self, groups=groups, size=size).largest()


def _view(ask: Ask, folded: Folded) -> View | None:
    found = ask.facts(folded)
    if found is None:
        return None
    facts, _, only = found
    try:
        return facts.view(ask.query.by, only, ask.query.as_of)
    except NothingLeftError:
        return None


def _leaders(
    shard: int, folded: Folded, ask: Ask, count: int, within: Sequence[str]
) -> Leaders | None:
    view = _view(ask, folded)
    return None if view is None else Leaders(view.groups, sizes(view), count, within).largest()


def _with_others(
    shard: int, folded: Folded, ask: Ask, leaders: Groups, picked: Sequence[str]
) -> Fewer | None:
    """Return the cells of the leaders of a shard, and those of its other groups put together: the
    last column tells them apart, and what picks groups is blank.
    """
    view = _view(ask, folded)
    if view is None:
        return None
    groups = view.groups
    _, (own, theirs) = numbered_together([groups, leaders])
    kept: Flags = np.isin(own, theirs)
    coded = {
        name: Coded(np.where(kept, c.codes, -1).astype(np.int32), c.choices)
        if name in picked
        else c
        for name, c in groups.coded.items()
    }
    coded[_apart(groups.names)] = Coded(kept.astype(np.int32), Column.text("", [_OTHERS, "own"]))
    fewer, onto = Groups(coded, groups.count).onto([*coded])
    spans, own_spans = view.facts.spans, None
    if spans is not None:
        target = np.where(view.places < 0, -1, onto[view.places])
        own_spans = GroupSpans(*spans.onto(target, fewer.count, LAST_DAY), spans.asked)
    cells = view.cells.regrouped(onto, fewer.count)
    return Fewer(replace(folded, groups=fewer.only_used(), cells=cells), own_spans)


def _apart(names: Sequence[str]) -> str:
    """Return a name that no group column has."""
    name = OTHERS
    while name in names:
        name += "'"
    return name


def _told_apart(
    found: Fewer, names: Sequence[str], picked: Sequence[str]
) -> tuple[Folded, GroupSpans | None, Flags]:
    """Return what was folded without the last column, and which groups are all others; a value of
    their own keeps these from groups that are blank.
    """
    folded, own = found.folded, found.own
    apart = folded.groups.coded[_apart(names)]
    others = np.array([word == _OTHERS for word in apart.choices.to_list()])[apart.codes]
    coded = {name: folded.groups.coded[name] for name in names}
    for name in picked:
        codes, choices = coded[name].codes, coded[name].choices
        count = len(choices)
        more = Column.text(name, [OTHERS])
        if count:
            more = choices.take(np.append(np.arange(count), 0))
        coded[name] = Coded(np.where(others, count, codes).astype(np.int32), more)
    groups, onto = Groups(coded, folded.groups.count).onto(names)
    cells = folded.cells.regrouped(onto, groups.count)
    if own is not None:
        own = GroupSpans(*own.onto(onto, groups.count, LAST_DAY), own.asked)
    moved = np.zeros(groups.count, bool)
    moved[onto] = others
    return replace(folded, groups=groups, cells=cells), own, moved


_MOST_NAMED = 50


def ask_shards(shards: Shards, count: int, told: Told, query: Query) -> Result:
    """Return the answer to a query; `count` is how many shards there are.

    Raises what the verb raises.
    """
    known = told.rows.groups.names
    if told.own is not None:
        check_in_parts(told.own, known, query)
    shards, names, wanted = _looked_at(shards, count, told, query)
    if not {*known} <= {*names} or not known:
        kept = [name for name in known if name in names or name in wanted]
        return _of_fewer(shards, told, kept, wanted, query)
    others, _ = values_apart(query.only, known)
    return _of_each(
        shards, names, Ask(told, replace(query.unordered(), only=None), others, wanted), query
    )


def view_of_shards(shards: Shards, count: int, told: Told, query: Query) -> View:
    """Return what a query looks at, the cells of all shards put together."""
    known = told.rows.groups.names
    shards, names, wanted = _looked_at(shards, count, told, query)
    kept = [name for name in known if name in names or name in wanted]
    facts, only = _facts_of_fewer(shards, told, kept, wanted, query)
    return facts.view(query.by, only, query.as_of)


def _looked_at(
    shards: Shards, count: int, told: Told, query: Query
) -> tuple[Shards, list[str], Wanted]:
    """Return the shards that a query looks at, its group columns, and the wanted values."""
    known = told.rows.groups.names
    names = group_names(query.by)
    if names == [EVERY] and EVERY not in known:
        names = known
    for name in names:
        if name not in known:
            raise QuestionError(unknown("group column", name, known))
    _, given_values = values_apart(query.only, known)
    for name in given_values:
        if name not in known:
            raise QuestionError(unknown("group column", name, known))
    wanted = settled(shards, given_values)
    every, held = shards, shards_with(known, wanted, count)
    if held is not None:
        shards = shards.among(held)
        if shards.first(partial(_any_of, wanted=wanted)) is None:
            raise _not_found(every, told, wanted, query)
    return shards, names, wanted


def _of_fewer(shards: Shards, told: Told, names: list[str], wanted: Wanted, query: Query) -> Result:
    """Answer from the cells of fewer groups, which are put together from all shards."""
    facts, only = _facts_of_fewer(shards, told, names, wanted, query)
    return answer(facts, replace(query, only=only))


def _facts_of_fewer(
    shards: Shards, told: Told, names: list[str], wanted: Wanted, query: Query
) -> tuple[Facts, Only]:
    """Return the facts of fewer groups, and what narrows a query to them."""
    work = partial(_fewer, names=names, wanted=wanted, asked=told.asked, coverage=told.coverage)
    found = shards.joined(work, Fewer.beside)
    if found is None:
        raise _not_found(shards, told, wanted, query)
    only = query.only
    held = present(found.folded.groups, wanted)
    if held != {name: [*values] for name, values in wanted.items()}:
        wrong = _not_found(shards, told, wanted, query)
        if not isinstance(wrong, NothingLeftError):
            raise wrong
        others, _ = values_apart(query.only, told.rows.groups.names)
        only = [*others, held]  # the other values occur beside others alone
    return told.facts(found.folded, found.own), only


def _fewer(shard: int, folded: Folded, **how: Any) -> Fewer | None:
    return narrowed(folded, **how)


def _of_each(shards: Shards, names: list[str], ask: Ask, query: Query) -> Result:
    """Answer shard by shard; what is wrong with a query is told by the first that has rows."""
    told, wanted = ask.told, ask.wanted
    tried = shards.first(partial(_tried, ask=replace(ask, few=True)))
    if tried is None:
        if wanted and shards.first(partial(_any_of, wanted=wanted)) is None:
            raise _not_found(shards, told, wanted, query)
        raise _nothing_left(told, query)
    if isinstance(query, Recap) and query.top:
        return topped(shards, names, ask, query)
    answered, goes_by_all = tried
    calendar = None if told.own is not None else told.calendar
    behind = Untraced(answered, tuple(names), tuple(m.name for m in told.measures), calendar)
    if goes_by_all:
        every = shards.joined(partial(_shares, ask=ask), Gathered.beside)
        ask = replace(ask, every=every)
        shards.first(partial(_tried, ask=replace(ask, few=True)))
        if isinstance(query, Recap) and query.wide:
            return side_by_side([*shards.each(partial(_alone, ask=ask))], every, behind)
    return in_shards(
        lambda work: [*shards.each(partial(_then, ask=ask, work=work))],
        names,
        partial(finished, query=query, measures=told.measures, behind=behind),
        None if told.own is not None else partial(_of_all, shards, told, wanted, query),
    )


def _of_all(shards: Shards, told: Told, wanted: Wanted, query: Query) -> Result:
    """Answer the same query of all groups together, in the order of time."""
    kept = [name for name in told.rows.groups.names if name in wanted]
    return _of_fewer(shards, told, kept, wanted, replace(query.unordered(), by=None))


def _tried(shard: int, folded: Folded, ask: Ask) -> tuple[object, bool] | None:
    """Return a question, and whether it goes by all groups; None where a shard has no rows."""
    found = ask(shard, folded)
    if found is None:
        return None
    table, mine = found
    assert table.answer is not None
    return table.answer.question, bool(mine.shares)


def _alone(shard: int, folded: Folded, ask: Ask) -> tuple[Result, Gathered] | None:
    """Return what a shard answers, without its view, and its shares of the whole."""
    found = ask(shard, folded)
    return None if found is None else (Result(found[0].columns, found[0].meta), found[1])


def _shares(shard: int, folded: Folded, ask: Ask) -> Gathered | None:
    found = ask(shard, folded)
    return None if found is None else found[1]


def _then(shard: int, folded: Folded, ask: Ask, work: Any) -> Any:
    """Do some work with what a shard answers."""
    found = ask(shard, folded)
    return None if found is None else work(shard, as_parts(found[0], ask.query, ask.told.measures))


def _any_of(shard: int, folded: Folded, wanted: Wanted) -> bool | None:
    return all(present(folded.groups, wanted).values()) or None


def _not_found(shards: Shards, told: Told, wanted: Wanted, query: Query) -> QuestionError:
    """Return the error for values that occur in no shard, with some that do, or in no group."""
    met: dict[str, set[str]] = {}
    some: dict[str, set[str]] = {}
    for found, choices in shards.each(partial(_values, wanted=wanted)):
        for name in wanted:
            met.setdefault(name, set()).update(found[name])
            some.setdefault(name, set()).update(choices[name])
    for name, values in wanted.items():
        for value in values:
            if value is not None and str(value) not in met.get(name, ()):
                return QuestionError(unknown(f"value of {name}", value, sorted(some[name])))
    return _nothing_left(told, query)


def _nothing_left(told: Told, query: Query) -> NothingLeftError:
    _, known = looked_at(query.as_of, told.coverage, told.rows.grain)
    return NothingLeftError(f"no transactions are left to look at in {known}")


def _values(shard: int, folded: Folded, wanted: Wanted) -> tuple[Any, Any]:
    found = {
        name: {str(v) for v in values} for name, values in present(folded.groups, wanted).items()
    }
    choices = {
        name: [str(v) for v in folded.groups.coded[name].choices.to_list()][:_MOST_NAMED]
        for name in wanted
    }
    return found, choices
