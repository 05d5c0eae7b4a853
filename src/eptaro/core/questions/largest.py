"""`largest`: the view that keeps the groups with most, and adds up the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.questions.view import OTHERS, View
from eptaro.core.tables.column import Column
from eptaro.errors import QuestionError, unknown


def largest(view: View, count: int, within: Sequence[str]) -> View:
    """Return the view with the groups that have most of the first measure, by size, and the rest
    as one group, `(others)`: over all, or within each value of some of the group columns.

    Raises `QuestionError` for a column that is none, and where no column is left to pick from.
    """
    names = view.groups.names
    for name in within:
        if name not in names:
            raise QuestionError(unknown("group column", name, names))
    picked = [name for name in names if name not in within]
    if not picked:
        other = " that top_within does not name" if within else ""
        raise QuestionError(f"top picks groups; name a column in by{other}")
    if count < 1:
        raise QuestionError(f"top={count} must be at least 1")
    size, around = sizes(view), view.groups.onto(within)[1]
    kept = view.facts.whole.picked(view.places, view.groups.count)
    if kept is None:
        kept = leading(view.groups, size, count, within)
    order = np.lexsort((-size.ranks(), ~kept, around))
    runs, kept = around[order], kept[order]
    opens = np.append(True, (runs[1:] != runs[:-1]) | (kept[1:] != kept[:-1]))
    first = kept | opens  # of each new group the first old one
    target = np.empty(len(order), np.int64)
    target[order] = np.cumsum(first) - 1
    others: Flags = ~kept[first]
    groups = view.groups.at(order[first])
    coded = {
        name: _with_others(name, groups, others) if name in picked else groups.coded[name]
        for name in names
    }
    return replace(
        view,
        groups=Groups(coded, len(others)),
        cells=view.cells.regrouped(target, len(others)),
        places=np.where(view.places < 0, -1, target[view.places]),
        kept={},
        others=others if others.any() else None,
    )


def sizes(view: View) -> Column:
    """Return what each group has of the first measure over all days seen."""
    every = np.arange(view.groups.count)
    spans = (np.full(len(every), day) for day in (view.seen.lo, view.seen.hi))
    return view.value(view.facts.measures[0], every, *spans)


def leading(groups: Groups, size: Column, count: int, within: Sequence[str]) -> Flags:
    """Return which groups are the largest, so many within each value of some of their columns; of
    equal ones those that come first.
    """
    around = groups.onto(within)[1]
    order = np.lexsort((-size.ranks(), around))
    runs, rows = around[order], np.arange(len(order))
    opens = np.append(True, runs[1:] != runs[:-1])
    kept = np.zeros(len(order), bool)
    kept[order] = rows - np.maximum.accumulate(np.where(opens, rows, 0)) < count
    return kept


def _with_others(name: str, groups: Groups, others: Flags) -> Coded:
    """Return a group column as texts, those of all others under their own word."""
    if not others.any():
        return groups.coded[name]
    values: list[Any] = groups.columns(np.arange(groups.count))[groups.names.index(name)].to_list()
    words = [None if value is None else str(value) for value in values]
    words = [OTHERS if other else word for word, other in zip(words, others.tolist(), strict=True)]
    codes = np.array([-1 if word is None else at for at, word in enumerate(words)], np.int32)
    texts: NDArray[Any] = np.array([*("" if word is None else word for word in words)])
    return Coded(codes, Column.text(name, texts))
