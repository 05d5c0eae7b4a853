"""Comparisons of the same periods against several prior ones, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from eptaro.core.measures.measure import Measure
from eptaro.core.questions.answer import Answered, Number
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.core.verbs.goals import GOAL_ENDINGS
from eptaro.core.verbs.queries import Compare


def side_by_side(tables: Sequence[Table], asked: Compare, measures: Sequence[Measure]) -> Table:
    """Return comparisons of the same periods against several prior ones as one table.

    What belongs to one of them is told by its ending, such as `_1_year`.
    """
    head = tables[0]
    stop = head.names.index("last") + 1
    goals = [measures[0].name + ending for ending in GOAL_ENDINGS]
    names = [measure.name for measure in measures]
    shared = [*head.names[:stop], *names, *(name for name in goals if name in head)]
    columns = [head.column(name) for name in shared]
    numbers: dict[str, Number] = {}
    for table, back in zip(tables, asked.backs, strict=True):
        ending = "_" + back.strip().replace(" ", "_")
        columns += [_against(c, ending, back) for c in table.columns if c.name not in shared]
        assert isinstance(table.answer, Answered)
        for name, number in table.answer.numbers.items():
            numbers[name if name in shared else name + ending] = number
    assert isinstance(head.answer, Answered)
    answer = replace(head.answer, asked=asked, numbers=numbers)
    return Table(columns, head.meta | {"back": asked.before}, answer)


def _against(column: Column, ending: str, back: str) -> Column:
    """Return a column under the name and face that tell what it is set against."""
    face = column.face
    if face is not None and face.ends:
        face = replace(face, ends=face.ends + ending)
    return column.named(column.name + ending, face=face and face.against(back))
