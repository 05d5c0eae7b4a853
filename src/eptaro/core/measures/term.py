"""`Term`: one calculation on a column, or on the totals of a finer grain."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Literal, NamedTuple, TypeAlias, get_args

from eptaro.core.expressions.formula import Formula
from eptaro.core.expressions.tree import Name, Where

Grain: TypeAlias = Literal[
    "day", "workday", "active day", "week", "month", "quarter", "half", "year"
]
GRAINS: tuple[Grain, ...] = get_args(Grain)
DAYS: tuple[Grain, ...] = ("day", "workday", "active day")  # grains whose units are days


class Term(NamedTuple):
    """One calculation: on a column, or on the totals (`inner`) of a finer `grain`.

    `how` names a calculation of the catalogue. `count()` has no column, only quantiles a
    share.
    """

    how: str
    column: str
    share: float = 0.5
    inner: Term | None = None
    grain: str = ""
    formula: Formula | None = None  # of a column that is worked out

    @property
    def met(self) -> Formula | None:
        """Which rows meet the condition of the term, where it has one and a value beside it."""
        node = None if self.formula is None else self.formula.node
        if self.formula is None or not isinstance(node, Where) or node.value is None:
            return None
        return replace(self.formula, node=Where(None, node.condition), wanted=None)

    def __str__(self) -> str:
        plain = self.formula is not None or not re.search(r"[^\w .]", self.column)
        body = self.column if plain else str(Name(self.column))
        if self.inner is not None:
            body = f"{self.inner} per {self.grain}"
        share = f", {self.share:g}" if self.how == "quantile" else ""
        return f"{self.how}({body}{share})"
