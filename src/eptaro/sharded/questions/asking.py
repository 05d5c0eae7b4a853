"""Questions of a book in shards, answered without all its cells in memory.

Where a question leaves group columns out, each shard's cells are added up to fewer groups, and
these put together. Where it names them all, each shard is asked by itself; what it needs to know
of the groups elsewhere (what all come to, by which a share goes) is gathered from all before.
"""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from eptaro.core.folds.folded import Folded
from eptaro.core.questions.query import Query
from eptaro.core.questions.scope import EVERY, Only, group_names, looked_at, values_apart
from eptaro.core.questions.store import answer, check_in_parts
from eptaro.core.questions.view import Facts, View
from eptaro.core.questions.whole import Fewer
from eptaro.core.tables.answer import Untraced
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Recap
from eptaro.errors import NothingLeftError, QuestionError, unknown
from eptaro.sharded.questions.narrowed import Wanted, narrowed, present, settled, shards_with
from eptaro.sharded.questions.table import ShardedTable, as_parts, finished, side_by_side
from eptaro.sharded.questions.told import Ask, Gathered, Told
from eptaro.sharded.questions.topped import topped
from eptaro.sharded.shards import Shards

_MOST_NAMED = 50


def ask_shards(shards: Shards, count: int, told: Told, query: Query) -> Table:
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


def _of_fewer(shards: Shards, told: Told, names: list[str], wanted: Wanted, query: Query) -> Table:
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


def _of_each(shards: Shards, names: list[str], ask: Ask, query: Query) -> Table:
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
    return ShardedTable(
        lambda work: [*shards.each(partial(_then, ask=ask, work=work))],
        names,
        partial(finished, query=query, measures=told.measures, behind=behind),
        None if told.own is not None else partial(_of_all, shards, told, wanted, query),
    )


def _of_all(shards: Shards, told: Told, wanted: Wanted, query: Query) -> Table:
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


def _alone(shard: int, folded: Folded, ask: Ask) -> tuple[Table, Gathered] | None:
    """Return what a shard answers, without its view, and its shares of the whole."""
    found = ask(shard, folded)
    return None if found is None else (Table(found[0].columns, found[0].meta), found[1])


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
