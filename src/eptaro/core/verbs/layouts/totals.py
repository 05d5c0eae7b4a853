"""Rows of all groups together, after those of each group."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.query.lineage import InParts, ViewLineage
from eptaro.core.results.column import Column, coded_once, join_columns
from eptaro.core.results.result import Result
from eptaro.core.verbs.periods import TOTAL
from eptaro.errors import QuestionError, show_option


def add_totals(query: Any, ask: Callable[[Any], Result]) -> Result:
    """Return the answer with the rows of all groups together at the end, under the name `total` in
    the first group column. `ask` answers the query as it is without `totals`.

    Raises `QuestionError` for an answer that has no groups, or sets them otherwise.
    """
    if getattr(query, "groups", None) is not None:
        raise QuestionError(
            f"{show_option('totals', True)} cannot be combined with groups, which has its own total"
        )
    if query.every == "entry":
        raise QuestionError(
            f"{show_option('totals', True)} adds groups up, and a transaction has one; leave it out"
        )
    each = ask(replace(query, totals=False))
    answer = each.answer
    if not isinstance(answer, ViewLineage) or not answer.by:
        raise QuestionError(
            f"{show_option('totals', True)} adds all groups together: name a column in by"
        )
    changed = {"top": None} if getattr(query, "top", None) is not None else {}
    of_all = replace(query, totals=False, by=None, sort=None, **changed)
    whole = ask(of_all.without_group_goals())
    total = whole.answer
    assert isinstance(total, ViewLineage)
    count = len(whole)
    columns = []
    for name in each.names:
        column = each.column(name)
        if name in answer.by:
            columns.append(_with_total_rows(column, count, first=name == answer.by[0]))
        elif name in whole:
            columns.append(coded_once(join_columns([column, whole.column(name)])))
        else:
            none = column.take(np.zeros(count, np.int64)).blanked(np.zeros(count, bool))
            columns.append(join_columns([column, none]))
    of_groups = replace(total, asked=query, total=np.ones(len(total.group), bool))
    lineage = InParts.of([replace(answer, asked=query), of_groups])
    return Result(columns, each.meta, lineage)


def _with_total_rows(column: Column, count: int, *, first: bool) -> Column:
    """Return a group column as texts with so many rows more: `total` in the first one."""
    words = [None if word is None else str(word) for word in column.to_list()]
    words += [TOTAL if first else None] * count
    names = sorted({word for word in words if word is not None})
    places = {word: place for place, word in enumerate(names)}
    codes = np.array([-1 if word is None else places[word] for word in words], np.int64)
    return Column.text(
        column.name, np.array(names), codes, description=column.description, face=column.face
    )
