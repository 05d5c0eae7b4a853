"""The rows of a frame for windows along a numeric column."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.batch import Batch
from eptaro.core.folds.encoding import Combiner
from eptaro.core.folds.groups import Groups
from eptaro.core.folds.planes import Plane
from eptaro.inputs.sources import FrameSource, Source, Wanted
from eptaro.inputs.values import read_codes, read_filled, read_groups, read_numbers

Rows = tuple[NDArray[np.float64], Groups, Ints, Callable[[Ints], Batch]]


def value_rows(table: Any, along: str, by: list[str], planes: set[Plane]) -> Rows:
    """Return the position of each row, its group's place among the groups, and what makes
    a batch of one row per cell, in a given order.
    """
    source = table if isinstance(table, Source) else FrameSource(table)
    codes = sorted({p.column for p in planes if p.what == "codes"})
    filled = sorted({p.column for p in planes if p.what == "filled"})
    numbers = sorted({p.column for p in planes if p.what not in ("rows", "filled", "codes")})
    wanted = Wanted(along, by, numbers, [*filled, *codes])
    rows = next(iter(source.batches(wanted)))
    values = {name: read_filled(rows[name], name) for name in set(filled) - set(numbers)}
    values |= {name: read_numbers(rows[name], name, source) for name in numbers}
    distinct = {name: read_codes(rows[name], name) for name in codes}
    combiner = Combiner(by)
    number = combiner.number({name: read_groups(rows[name], name, source.name) for name in by})
    groups = combiner.groups()
    order = groups.order()
    rank = np.empty(groups.count, np.int64)
    rank[order] = np.arange(groups.count)
    place = np.zeros(rows.num_rows, np.int64) if number is None else rank[number]

    def batch(order: Ints) -> Batch:
        days = np.arange(len(order), dtype=np.int32)
        return Batch(
            days,
            {},
            {name: column.take(order) for name, column in values.items()},
            {name: coded.at(order) for name, coded in distinct.items()},
        )

    position = read_numbers(rows[along], along, source).numbers()
    return position, groups.at(order), place, batch
