"""What is done with the answers of all shards once they are together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eptaro.core.measures.measure import Measure
from eptaro.core.questions.query import Query
from eptaro.core.questions.view import NOTES
from eptaro.core.questions.whole import Named
from eptaro.core.tables.answer import Untraced
from eptaro.core.tables.deferred import AnyColumn
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap.periods import TOTAL
from eptaro.core.verbs.recap.shares import running_name, with_running_shares
from eptaro.sharded.questions.told import Gathered


def as_parts(table: Table, query: Query, measures: Sequence[Measure]) -> Table:
    """Return a shard's answer without traces, and without running shares, which go by the order of
    all rows.
    """
    shares = isinstance(query, Recap) and query.shares
    running = {running_name(measure) for measure in measures} if shares else set()
    columns = [column for column in table.parts if column.name not in running]
    return Table(columns, table.meta)


def finished(table: Table, query: Query, measures: Sequence[Measure], behind: Untraced) -> Table:
    """Return all rows in the order that was asked for, with running shares where they were."""
    table = Table(table.parts, table.meta, behind)
    sort = query.order
    order = np.arange(len(table)) if sort is None else table.order(sort)
    if isinstance(query, Recap) and query.shares:
        parts = np.asarray(table.column("period").values() != TOTAL, bool)
        if "level" in table:
            parts &= table.column("level").values() == query.per
        table = with_running_shares(table, measures, parts, order)
    return table if sort is None else table.take(order)


def side_by_side(
    found: Sequence[tuple[Table, Gathered]], every: Gathered | None, behind: Untraced
) -> Table:
    """Return the cross-tabs of some groups each as one, the groups in natural order; each has the
    totals of all at its end.
    """
    assert every is not None
    head = found[0][0]
    first = head.names.index(head.meta["heads"][0])
    blocks: dict[int, list[AnyColumn]] = {}
    for table, mine in found:
        groups = _named(mine).groups
        columns = table.parts[first:]
        width = len(columns) // (groups.count + 1)
        for at, place in enumerate(_named(every).places(groups).tolist()):
            blocks[place] = columns[at * width : (at + 1) * width]
    totals = head.parts[-width:]
    columns = [*(column for place in sorted(blocks) for column in blocks[place]), *totals]
    heads = {name for table, _ in found for name in table.meta["heads"]}
    meta = head.meta | {"heads": [column.name for column in columns if column.name in heads]}
    for table, _ in found:
        meta |= {key: table.meta[key] for key in NOTES if key in table.meta}
    return Table([*head.parts[:first], *columns], meta, behind)


def _named(gathered: Gathered) -> Named:
    (names,) = (part for of, part in gathered.shares.items() if of[1] == "names")
    found = names[0]
    assert isinstance(found, Named)
    return found
