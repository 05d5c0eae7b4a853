"""A question as one shard among several is asked it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eptaro.core.folds.folded import Folded
from eptaro.core.folds.shards import of_groups
from eptaro.core.questions.query import Query
from eptaro.core.questions.scope import Only
from eptaro.core.questions.store import answer
from eptaro.core.questions.view import Facts
from eptaro.core.tables.table import Table
from eptaro.errors import NothingLeftError
from eptaro.sharded.questions.narrowed import Wanted, present
from eptaro.sharded.questions.told import Gathered, OfShards, Told

_FEW = 64  # groups


@dataclass(frozen=True, eq=False)
class Ask:
    """A query that a shard is asked, in no order; `others` is what it is narrowed to beside the
    `wanted` group values. To see whether it can be answered at all, a `few` of its groups may do.
    """

    told: Told
    query: Query
    others: list[Any]
    wanted: Wanted
    few: bool = False
    every: Gathered | None = None

    def __call__(self, shard: int, folded: Folded) -> tuple[Table, Gathered] | None:
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

    def facts(self, folded: Folded) -> tuple[Facts, OfShards, Only] | None:
        """Return the facts of a shard, the whole that it is of, and what narrows a question to its
        groups; None where it has no wanted ones.
        """
        own = present(folded.groups, self.wanted)
        if not all(own.values()):
            return None
        only = [*self.others, *([own] if own else [])]
        whole = OfShards(self.every)
        return self.told.part(folded, whole), whole, only or None

    def _answer(self, folded: Folded) -> tuple[Table, Gathered] | None:
        found = self.facts(folded)
        if found is None:
            return None
        facts, whole, only = found
        query = self.query if self.every is not None else self.query.without_group_goals()
        try:
            table = answer(facts, replace(query, only=only))
        except NothingLeftError:
            return None
        return table, Gathered(whole.mine)
