"""The cross-tab of a recap: periods down, the groups of one column across."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from eptaro.core.questions.view import View
from eptaro.core.tables.display import BLANK
from eptaro.core.tables.table import Table
from eptaro.core.verbs.periods import PeriodRows
from eptaro.errors import QuestionError, unknown


def across(view: View, rows: PeriodRows) -> Table:
    """Return periods down and one column per group and measure across, the totals last."""
    if len(view.groups.names) != 1:
        raise QuestionError("wide=True sets one group column across; name exactly one in by")
    measures = view.facts.measures
    heads = view.groups.columns(np.arange(view.groups.count))[0].to_list()
    edge, head = view.together(), rows.head()
    meta = view.meta("recap") | edge.undecided()
    taken = {column.name for column in head} | {"total"}
    count = len(rows.labels)
    made: dict[str, Callable[[Table, int, str], Any]] = {}
    columns = [*head]
    titles = [_title(view.groups.names[0], word, taken, heads) for word in heads]
    for source, place, title in [*((view, i, t) for i, t in enumerate(titles)), (edge, 0, "total")]:
        groups = source.groups.columns(np.full(count, place))
        for measure in measures:
            column = source.value(measure, np.full(count, place), rows.first, rows.last)
            name = title if len(measures) == 1 else f"{title} {measure.name}"
            columns.append(column.named(name, f"{measure.name} of {title}: {measure.formula}"))
            long = source.table([*groups, *head, column], meta)
            made[name] = partial(_traced_across, long, measure.name)

    return Table(columns, meta | {"heads": [*made]}, _Across(made))


@dataclass(frozen=True, eq=False)
class _Across:
    """Traces the numbers of a cross-tab, each by what goes with its column."""

    made: dict[str, Callable[[Table, int, str], Any]]

    def __call__(self, shown: Table, row: int, name: str) -> Any:
        if name not in self.made:
            raise QuestionError(unknown("column of values", name, self.made))
        return self.made[name](shown, row, name)


def _title(column: str, word: Any, taken: set[str], heads: list[Any]) -> str:
    """Return what a group's column is called; one that is called like another names its group."""
    title = BLANK if word is None else str(word)
    doubled = word is not None and title == BLANK and None in heads
    return f"{column}={title}" if title in taken or doubled else title


def _traced_across(long: Table, measure: str, shown: Table, row: int, name: str) -> Any:
    """Trace a number of a cross-tab as that of the same row of one group's own table."""
    others = [column for column in long.columns if column.name != measure]
    return long.trace_as(Table([*others, shown.column(name).named(measure)]), row, measure)
