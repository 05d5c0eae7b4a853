"""Questions of a book in shards, answered without all its cells in memory.

Where a question leaves group columns out, each shard's cells are added up to fewer groups, and
these put together. Where it names them all, the rows of a group follow from its own cells alone,
and each shard is asked by itself; unless groups are set beside each other, which takes them all.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields, replace
from functools import partial
from inspect import signature
from typing import Any

import numpy as np

from eptaro.core.answering import Answering
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags
from eptaro.core.calendars.grain import last_whole
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.shards import of_groups
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.group_coverage import Asked, GroupSpans, group_spans
from eptaro.core.questions.in_parts import check_in_parts
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.questions.scope import EVERY, group_names, last_day_seen, values_apart
from eptaro.core.questions.view import NothingLeftError
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError, unknown
from eptaro.sharded.narrowed import Fewer, Wanted, narrowed, present
from eptaro.sharded.pruned import shards_with
from eptaro.sharded.shards import Shards
from eptaro.sharded.table import ShardedTable

_BESIDE = {  # by verb, the options that set groups beside each other
    "recap": ("wide", "top", "shares", "ranks", "index"),
    "accumulate": ("goals",),
    "trail": (),
    "compare": ("details", "goals"),
}
_MOST_NAMED = 50
_FEW = 64  # groups


@dataclass(frozen=True, eq=False)
class Told:
    """What every shard of a book has in common; `asked` is the coverage that goes by groups."""

    rows: Folded  # of all shards, without their cells
    measures: tuple[Measure, ...]
    calendar: Calendar
    coverage: Span
    workdays: Workdays
    own: OwnCalendars | None
    asked: Asked | None

    def facts(self, folded: Folded, spans: GroupSpans | None = None) -> Answering:
        """Return facts of some cells that are told of like the whole book."""
        return self._answering(Answering, folded, spans)

    def part(self, folded: Folded) -> Answering:
        """Return the facts of one shard among several."""
        spans = None
        if self.asked is not None:
            spans = group_spans(self.asked, folded, self.coverage, part=True)
        return self._answering(_Shard, folded, spans)

    def _answering(
        self, kind: type[Answering], folded: Folded, spans: GroupSpans | None
    ) -> Answering:
        rows = self.rows
        whole = replace(
            rows, groups=folded.groups, cells=folded.cells, distinct=folded.distinct, kept={}
        )
        facts = (whole, self.measures, self.calendar, self.coverage, self.workdays, self.own)
        return kind(*facts, None, spans)


class _Shard(Answering):
    """Facts of one shard, whose groups are looked at where they are seen: others are elsewhere."""

    def _looked_at(self, asked: Flags, seen: Flags) -> Flags:
        return seen


def answer(
    shards: Shards,
    count: int,
    told: Told,
    whole: Any,
    verb: str,
    args: Sequence[Any],
    given: Mapping[str, Any],
) -> Table:
    """Return what a verb answers.

    `count` is how many shards there are; `whole` returns the facts of all shards in memory, for
    questions that set groups beside each other. Raises what the verb raises.
    """
    bound = signature(getattr(Answering, verb)).bind(None, *args, **given)
    options = {name: value for name, value in bound.arguments.items() if name != "self"}
    if told.own is not None:
        check_in_parts(told.own, options)
    known = told.rows.groups.names
    names = group_names(options.get("by"))
    if names == [EVERY] and EVERY not in known:
        names = known
    for name in names:
        if name not in known:
            raise QuestionError(unknown("group column", name, known))
    others, wanted = values_apart(options.get("only"), known)
    for name in wanted:
        if name not in known:
            raise QuestionError(unknown("group column", name, known))
    every, held = shards, shards_with(known, wanted, count)
    if held is not None:
        shards = shards.among(held)
        if shards.first(partial(_any_of, wanted=wanted)) is None:
            raise _not_found(every, told, wanted, options)
    kept = [name for name in known if name in names or name in wanted]
    if len(kept) < len(known) or not known:
        return _of_fewer(shards, told, kept, wanted, verb, options)
    beside = _BESIDE.get(verb)
    if beside is None or any(options.get(name) for name in beside):
        table: Table = getattr(whole(), verb)(**options)
        return table
    return _shard_by_shard(shards, told, names, others, wanted, verb, options)


def _of_fewer(
    shards: Shards,
    told: Told,
    names: list[str],
    wanted: Wanted,
    verb: str,
    options: Mapping[str, Any],
) -> Table:
    """Answer from the cells of fewer groups, which are put together from all shards."""
    work = partial(_fewer, names=names, wanted=wanted, asked=told.asked, coverage=told.coverage)
    found = shards.joined(work, Fewer.beside)
    if found is None:
        raise _not_found(shards, told, wanted, options)
    table: Table = getattr(told.facts(found.folded, found.own), verb)(**options)
    return table


def _fewer(shard: int, folded: Folded, **how: Any) -> Fewer | None:
    return narrowed(folded, **how)


def _shard_by_shard(
    shards: Shards,
    told: Told,
    names: list[str],
    others: list[Any],
    wanted: Wanted,
    verb: str,
    options: Mapping[str, Any],
) -> Table:
    """Answer shard by shard; what is wrong with a question is told by the first that has rows."""
    plain = {name: value for name, value in options.items() if name not in ("sort", "only")}
    ask = _Ask(told, verb, plain, others, wanted)
    if shards.first(replace(ask, few=True)) is None:
        if wanted and shards.first(partial(_any_of, wanted=wanted)) is None:
            raise _not_found(shards, told, wanted, options)
        ask = replace(ask, lenient=True)  # nothing is seen anywhere so far: zeros everywhere
        if shards.first(replace(ask, few=True)) is None:
            raise _nothing_left(told, options)
    return ShardedTable(
        lambda work: [*shards.each(partial(_then, ask=ask, work=work))],
        names,
        options.get("sort"),
        None if told.own is not None else partial(_of_all, shards, told, wanted, verb, options),
    )


def _of_all(
    shards: Shards, told: Told, wanted: Wanted, verb: str, options: Mapping[str, Any]
) -> Table:
    """Answer the same question of all groups together, in the order of time."""
    plain = {name: value for name, value in options.items() if name not in ("by", "sort")}
    kept = [name for name in told.rows.groups.names if name in wanted]
    return _of_fewer(shards, told, kept, wanted, verb, plain)


@dataclass(frozen=True, eq=False)
class _Ask:
    """A question that a shard is asked; None where it has nothing to say. To see whether it can be
    answered at all, a `few` of its groups may do.
    """

    told: Told
    verb: str
    options: Mapping[str, Any]
    others: list[Any]
    wanted: Wanted
    lenient: bool = False
    few: bool = False

    def __call__(self, shard: int, folded: Folded) -> Table | None:
        if self.few and folded.groups.count > _FEW:
            some = folded.groups.at(np.arange(_FEW))
            cells = of_groups(folded.cells, 0, _FEW)
            table = self._table(replace(folded, groups=some, cells=cells))
            if table is not None:
                return table
        return self._table(folded)

    def _table(self, folded: Folded) -> Table | None:
        facts = self.told.part(folded)
        if self.lenient:
            facts = Answering(**{f.name: getattr(facts, f.name) for f in fields(Answering)})
        own = present(folded.groups, self.wanted)
        if not all(own.values()):
            return None
        only = [*self.others, *([own] if own else [])]
        try:
            table: Table = getattr(facts, self.verb)(only=only or None, **self.options)
        except NothingLeftError:
            return None
        return table


def _then(shard: int, folded: Folded, ask: _Ask, work: Any) -> Any:
    """Do some work with what a shard answers."""
    table = ask(shard, folded)
    if table is None:
        return None
    return work(shard, Table(table.parts, table.meta))


def _any_of(shard: int, folded: Folded, wanted: Wanted) -> bool | None:
    return all(present(folded.groups, wanted).values()) or None


def _not_found(
    shards: Shards, told: Told, wanted: Wanted, options: Mapping[str, Any]
) -> QuestionError:
    """Return the error for values that occur in no shard, with some that do, or in no group."""
    met: dict[str, set[str]] = {}
    some: dict[str, set[str]] = {}
    for found, choices in shards.each(partial(_values, wanted=wanted)):
        for name in wanted:
            met.setdefault(name, set()).update(found[name])
            some.setdefault(name, set()).update(choices[name])
    for name, values in wanted.items():
        for value in values:
            if str(value) not in met.get(name, ()):
                return QuestionError(unknown(f"value of {name}", value, sorted(some[name])))
    return _nothing_left(told, options)


def _nothing_left(told: Told, options: Mapping[str, Any]) -> NothingLeftError:
    grain = told.rows.grain
    today = last_whole(last_day_seen(options.get("as_of"), told.coverage), grain)
    known = Span.of(told.coverage.lo, today)
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
