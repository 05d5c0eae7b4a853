"""Results of a book in shards: worked out where these are, and put together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache
from typing import Any, TypeVar

import numpy as np

from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.merge import numbered_together
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.query import Query
from eptaro.core.questions.view import NOTES
from eptaro.core.questions.whole import Named
from eptaro.core.tables.answer import Untraced
from eptaro.core.tables.column import Column, join
from eptaro.core.tables.deferred import AnyColumn
from eptaro.core.tables.result import Parts, Result
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap.periods import TOTAL
from eptaro.core.verbs.recap.shares import running_name, with_running_shares
from eptaro.errors import QuestionError
from eptaro.sharded.questions.told import Gathered

Done = TypeVar("Done")
Each = Callable[[Callable[[int, Result], Done]], list[Done]]


def in_shards(
    each: Each[Any],
    by: Sequence[str],
    finished: Callable[[Result], Result],
    of_all: Callable[[], Result] | None = None,
) -> Result:
    """Return the result of which each shard makes its own part.

    `each` does some work with every part, where it is made, and returns what that came to.
    """
    whole = of_all and cache(of_all)
    return Result.of_parts(Parts(each, lambda: finished(together(each(_itself), by)), whole))


def _itself(shard: int, table: Result) -> Result:
    return Result(table.columns, table.meta)  # columns not made yet would keep the shard's cells


def together(tables: Sequence[Result], by: Sequence[str]) -> Result:
    """Return the tables of several shards as one, in the order of groups and time."""
    if not tables:
        raise QuestionError("no transactions are left to look at")
    head = tables[0]
    names = [name for name in head.names if all(name in table for table in tables)]
    columns = [_joined([table.column(name) for table in tables]) for name in names]
    meta = dict(head.meta)
    for table in tables:
        meta |= {key: table.meta[key] for key in NOTES if key in table.meta}
    if "tie_out" in meta:
        told = f"the parts add up in each of {len(tables)} shards"
        meta["tie_out"] = {n: t if n == "rows" else told for n, t in meta["tie_out"].items()}
    if len(tables) > 1:
        _, places = numbered_together([_groups(table, by) for table in tables])
        order = np.argsort(np.concatenate(places), kind="stable")
        columns = [column.take(order) for column in columns]
    return Result(columns, meta)


def _joined(parts: Sequence[Column]) -> Column:
    """Return columns one below the other; one that is all blank is of whatever kind others are."""
    kinds = [part for part in parts if not part.blank.all()] or [parts[0]]
    like = kinds[0]
    alike = [
        part
        if part.kind == like.kind or not part.blank.all()
        else replace(
            like, data=np.zeros(len(part), like.data.dtype), valid=np.zeros(len(part), bool)
        )
        for part in parts
    ]
    return join(alike)


def _groups(table: Result, by: Sequence[str]) -> Groups:
    return Groups({name: _coded(table.column(name)) for name in by}, len(table)).only_used()


def _coded(column: Column) -> Coded:
    """Return a column of groups as codes."""
    if column.kind == "text":
        choices = np.array([], object) if column.choices is None else column.choices
        return Coded(column.data, Column.text(column.name, choices))
    met, codes = np.unique(column.data, return_inverse=True)
    codes = np.where(column.blank, -1, codes).astype(np.int32, copy=False)
    plain = Column.of(column.name, column.kind, met, unit=column.unit)
    return Coded(np.asarray(codes, np.int32), plain)


def as_parts(table: Result, query: Query, measures: Sequence[Measure]) -> Result:
    """Return a shard's answer without traces, and without running shares, which go by the order of
    all rows.
    """
    shares = isinstance(query, Recap) and query.shares
    running = {running_name(measure) for measure in measures} if shares else set()
    columns = [column for column in table.lazy_columns if column.name not in running]
    return Result(columns, table.meta)


def finished(table: Result, query: Query, measures: Sequence[Measure], behind: Untraced) -> Result:
    """Return all rows in the order that was asked for, with running shares where they were."""
    table = Result(table.lazy_columns, table.meta, behind)
    sort = query.order
    order = np.arange(len(table)) if sort is None else table.order(sort)
    if isinstance(query, Recap) and query.shares:
        parts = np.asarray(table.column("period").unmasked() != TOTAL, bool)
        if "level" in table:
            parts &= table.column("level").unmasked() == query.per
        table = with_running_shares(table, measures, parts, order)
    return table if sort is None else table.take(order)


def side_by_side(
    found: Sequence[tuple[Result, Gathered]], every: Gathered | None, behind: Untraced
) -> Result:
    """Return the cross-tabs of some groups each as one, the groups in natural order; each has the
    totals of all at its end.
    """
    assert every is not None
    head = found[0][0]
    first = head.names.index(head.meta["heads"][0])
    blocks: dict[int, list[AnyColumn]] = {}
    for table, mine in found:
        groups = _named(mine).groups
        columns = table.lazy_columns[first:]
        width = len(columns) // (groups.count + 1)
        for at, place in enumerate(_named(every).places(groups).tolist()):
            blocks[place] = columns[at * width : (at + 1) * width]
    totals = head.lazy_columns[-width:]
    columns = [*(column for place in sorted(blocks) for column in blocks[place]), *totals]
    heads = {name for table, _ in found for name in table.meta["heads"]}
    meta = head.meta | {"heads": [column.name for column in columns if column.name in heads]}
    for table, _ in found:
        meta |= {key: table.meta[key] for key in NOTES if key in table.meta}
    return Result([*head.lazy_columns[:first], *columns], meta, behind)


def _named(gathered: Gathered) -> Named:
    (names,) = (part for of, part in gathered.shares.items() if of[1] == "names")
    found = names[0]
    assert isinstance(found, Named)
    return found
