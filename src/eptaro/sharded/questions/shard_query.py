"""What all shards of a book have in common, and the facts of one among them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, cast

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.shards import of_groups
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measure
from eptaro.core.query.coverage import GivenSpans, GroupSpans, group_spans
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import Query
from eptaro.core.query.scope import Only
from eptaro.core.query.totals import AnyShare, GlobalTotals, Key, Share
from eptaro.core.query.view import BookData
from eptaro.core.results.result import Result
from eptaro.core.verbs.store import answer
from eptaro.errors import NothingLeftError
from eptaro.sharded.questions.reduce import WantedGroups, values_present


@dataclass(frozen=True, eq=False)
class BookContext:
    """What every shard of a book has in common; `asked` is the coverage that goes by groups."""

    rows: Folded  # of all shards, without their cells
    measures: tuple[Measure, ...]
    calendar: Calendar
    coverage: Span
    workdays: Workdays
    own: OwnCalendars | None
    asked: GivenSpans | None

    def facts(
        self, folded: Folded, spans: GroupSpans | None = None, whole: GlobalTotals | None = None
    ) -> BookData:
        """Return facts of some cells that share the settings of the whole book."""
        rows = self.rows
        kept = replace(
            rows, groups=folded.groups, cells=folded.cells, distinct=folded.distinct, kept={}
        )
        facts = (kept, self.measures, self.calendar, self.coverage, self.workdays, self.own)
        return BookData(*facts, None, spans, whole or GlobalTotals())

    def part(self, folded: Folded, whole: GlobalTotals) -> BookData:
        """Return the facts of one shard among several, which make up the whole."""
        spans = None
        if self.asked is not None:
            spans = group_spans(self.asked, folded, self.coverage, part=True)
        return self.facts(folded, spans, whole)


@dataclass(frozen=True, eq=False)
class PartialTotals:
    """Shares of the whole, in the order in which a verb asks for each."""

    shares: Mapping[Key, list[Share]] = field(default_factory=dict)

    def beside(self, other: PartialTotals) -> PartialTotals:
        """Return the shares of both, put together."""
        found = {**self.shares, **other.shares}
        for key in {*self.shares} & {*other.shares}:
            pairs = zip(self.shares[key], other.shares[key], strict=True)
            found[key] = [one.beside(two) for one, two in pairs]
        return PartialTotals(found)


@dataclass(frozen=True, eq=False)
class ShardTotals(GlobalTotals):
    """All shards, of which one is at hand.

    The shares of the one are kept in `mine`; `every` holds those of all, once they are gathered.
    """

    every: PartialTotals | None = None
    mine: dict[Key, list[Share]] = field(default_factory=dict)

    def global_value(self, key: Key, share: AnyShare) -> AnyShare:
        """Return the result of the groups of all shards, or those at hand until it is gathered."""
        mine = self.mine.setdefault(key, [])
        mine.append(share)
        if self.every is None:
            return share
        return cast(AnyShare, self.every.shares[key][len(mine) - 1])


@dataclass(frozen=True, eq=False)
class PickedBefore(GlobalTotals):
    """The largest groups, and those that are all `others` put together."""

    others: Flags
    named: bool = False

    def picked(self, places: Ints, count: int) -> Flags:
        """Return which groups are the largest."""
        kept, others = np.ones(count, bool), places[self.others]
        kept[others[others >= 0]] = False
        return kept


_FEW = 64  # groups


@dataclass(frozen=True, eq=False)
class ShardQuery:
    """A query that a shard is asked, in no order; `others` is what it is narrowed to beside the
    `wanted` group values. To see whether it can be answered at all, a `few` of its groups may do.
    """

    context: BookContext
    query: Query
    others: list[Any]
    wanted: WantedGroups
    few: bool = False
    every: PartialTotals | None = None

    def __call__(self, shard: int, folded: Folded) -> tuple[Result, PartialTotals] | None:
        """Return what a shard answers, and its shares of what goes by all groups; None where it has
        nothing to say.
        """
        if self.few and folded.groups.count > _FEW:
            some = folded.groups.at(np.arange(_FEW))
            cells = of_groups(folded.cells, 0, _FEW)
            found = self._answer(replace(folded, groups=some, cells=cells))
            if found is not None:
                return found
        return self._answer(folded)

    def facts(self, folded: Folded) -> tuple[BookData, ShardTotals, Only] | None:
        """Return the facts of a shard, the whole that it is of, and what narrows a question to its
        groups; None where it has no wanted ones.
        """
        own = values_present(folded.groups, self.wanted)
        if not all(own.values()):
            return None
        only = [*self.others, *([own] if own else [])]
        whole = ShardTotals(self.every)
        return self.context.part(folded, whole), whole, only or None

    def _answer(self, folded: Folded) -> tuple[Result, PartialTotals] | None:
        found = self.facts(folded)
        if found is None:
            return None
        facts, whole, only = found
        query = self.query if self.every is not None else self.query.without_group_goals()
        try:
            table = answer(facts, replace(query, only=only))
        except NothingLeftError:
            return None
        return table, PartialTotals(whole.mine)
