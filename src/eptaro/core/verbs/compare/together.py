"""Comparisons of the same periods against several prior ones, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from eptaro.core.tables.table import Table
from eptaro.core.verbs.goals import GOAL_ENDINGS
from eptaro.errors import QuestionError, unknown


def side_by_side(tables: Sequence[Table], backs: Sequence[str], measures: Sequence[str]) -> Table:
    """Return comparisons of the same periods against several prior ones as one table.

    What belongs to one of them is told by its ending, such as `_1_year`.
    """
    head = tables[0]
    stop = head.names.index("last") + 1
    goals = [name + ending for name in measures[:1] for ending in GOAL_ENDINGS]
    shared = [*head.names[:stop], *measures, *(name for name in goals if name in head)]
    columns = [head.column(name) for name in shared]
    endings = {}
    for table, back in zip(tables, backs, strict=True):
        ending = "_" + back.strip().replace(" ", "_")
        endings[ending] = table
        columns += [c.named(c.name + ending) for c in table.columns if c.name not in shared]

    tracer = _OneOf(endings, tuple(shared))
    return Table(columns, head.meta | {"back": ", ".join(backs)}, tracer)


@dataclass(frozen=True, eq=False)
class _OneOf:
    """Traces a number as that of the one comparison that its ending names."""

    tables: dict[str, Table]
    shared: tuple[str, ...]

    def __call__(self, shown: Table, row: int, name: str) -> Any:
        if name not in shown:
            raise QuestionError(unknown("column", name, shown.names))
        shared = self.shared
        fits = [e for e in self.tables if name not in shared and name.endswith(e)]
        mine = fits[0] if fits else next(iter(self.tables))
        own = [c for c in shown.columns if c.name in shared]
        own += [
            c.named(c.name.removesuffix(mine))
            for c in shown.columns
            if c.name not in shared and c.name.endswith(mine)
        ]
        stem = name if name in shared else name.removesuffix(mine)
        return self.tables[mine].trace_as(Table(own), row, stem)
