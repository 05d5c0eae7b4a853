"""The largest groups of all shards, and all others put together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from eptaro.core.calendars.days import LAST_DAY, Flags
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.merge import numbered_together
from eptaro.core.questions.group_coverage import GroupSpans
from eptaro.core.questions.largest import leading, sizes
from eptaro.core.questions.store import answer
from eptaro.core.questions.view import OTHERS, View
from eptaro.core.questions.whole import Fewer
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import join
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Recap
from eptaro.errors import NothingLeftError
from eptaro.sharded.questions.told import Ask, PickedBefore
from eptaro.sharded.shards import Shards

_OTHERS = "others"


def topped(shards: Shards, names: list[str], ask: Ask, query: Recap) -> Table:
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
