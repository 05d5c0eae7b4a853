"""The cross-tab of a recap: periods down, the groups of one column across."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.calendars.days import LAST_DAY
from eptaro.core.questions.answer import Answered, Number, Side, Value
from eptaro.core.questions.group_coverage import GroupSpans
from eptaro.core.questions.query import Query
from eptaro.core.questions.view import View
from eptaro.core.questions.whole import Fewer, Named
from eptaro.core.tables.display import BLANK
from eptaro.core.tables.table import Table
from eptaro.core.verbs.recap.periods import TOTAL, PeriodRows
from eptaro.core.verbs.recap.shares import share
from eptaro.errors import QuestionError

_MOST_ACROSS = 4_000  # groups


def across(view: View, rows: PeriodRows, asked: Query, *, shares: bool) -> Table:
    """Return periods down and one column per group and measure across, the totals last; with
    shares, beside each what it has of its period, and beside the totals what that has of all.
    """
    if len(view.groups.names) != 1:
        raise QuestionError("wide=True sets one group column across; name exactly one in by")
    if view.groups.count > _MOST_ACROSS:
        raise QuestionError(
            f"wide=True sets {view.groups.count:,} groups across, and {_MOST_ACROSS:,} are the "
            f"most; narrow with only=, or keep the largest with top="
        )
    measures = view.facts.measures
    heads = view.groups.columns(np.arange(view.groups.count))[0].to_list()
    every, edge = view.of_all("names", Named(view.groups)), _edge(view)
    blank = bool((every.groups.coded[view.groups.names[0]].codes < 0).any())
    head = [*rows.head(), rows.complete_of_all(edge)]
    taken = {column.name for column in head} | {TOTAL}
    side = Side("days", rows.first, rows.last)
    numbers: dict[str, Number] = {}
    columns = [*head]
    titles = [_title(view.groups.names[0], word, taken, blank) for word in heads]
    for source, place, title in [*((view, i, t) for i, t in enumerate(titles)), (edge, 0, TOTAL)]:
        group = np.full(len(rows), place)
        for measure in measures:
            column = source.value(measure, group, rows.first, rows.last)
            name = title if len(measures) == 1 else f"{title} {measure.name}"
            columns.append(column.named(name, f"{measure.name} of {title}: {measure.formula}"))
            numbers[name] = Value(source, measure, group, side)
            if shares and measure.additive_plane is not None:
                of = edge.value(measure, np.zeros_like(group), rows.first, rows.last).numbers()
                whole, text = (of[-1:], "of all") if source is edge else (of, "of its period")
                columns.append(share(f"{name} share", column.numbers(), whole, text, name))
    group = np.zeros(len(rows), np.int64)
    answer = Answered(asked, edge, group, numbers, np.arange(len(group)), rows.of_level(TOTAL))
    meta = view.meta("recap") | edge.undecided() | {"heads": [*numbers]}
    return Table(columns, meta, answer)


def _edge(view: View) -> View:
    """Return the same view of all groups added up to one, of which these may be some."""
    edge, facts, own = view.together(), view.facts, None
    if facts.spans is not None:
        lo, hi = facts.spans.onto(edge.places, 1, LAST_DAY)
        own = GroupSpans(lo, hi, facts.spans.asked)
    mine = Fewer(replace(facts.folded, groups=edge.groups, cells=edge.cells), own)
    found = view.of_all("all groups", mine)
    if found is mine:
        return edge
    every = replace(facts, folded=found.folded, spans=found.own)
    return replace(edge, facts=every, cells=found.folded.cells, places=np.zeros(1, np.int64))


def _title(column: str, word: Any, taken: set[str], blank: bool) -> str:
    """Return what a group's column is called; one that is called like another names its group."""
    title = BLANK if word is None else str(word)
    doubled = word is not None and title == BLANK and blank
    return f"{column}={title}" if title in taken or doubled else title
