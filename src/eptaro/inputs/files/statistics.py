"""Row groups of a Parquet file that its statistics rule out for a condition."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from typing import Any

import pyarrow as pa

from eptaro.core.calendars.days import ordinal
from eptaro.core.expressions.possible import Known, bound_of, possible
from eptaro.core.expressions.tree import Node, names_in
from eptaro.inputs.sources import Unread


def ruled_out(file: Any, where: Node, date: str, stated: Mapping[str, Any]) -> dict[int, Unread]:
    """Return the row groups none of whose rows meets a condition, and all of whose dates are
    known to be days; `stated` are values that all rows have.
    """
    schema = file.schema_arrow
    kind = schema.field(date).type if date in schema.names else pa.null()
    if not (pa.types.is_date32(kind) or (pa.types.is_timestamp(kind) and kind.tz is None)):
        return {}
    names = [name for name in names_in(where) if name in schema.names]
    same = {
        name: Known(bound_of(value), bound_of(value), value is None, value is None)
        for name, value in stated.items()
        if name not in schema.names
    }
    found = {}
    for number in range(file.num_row_groups):
        group = file.metadata.row_group(number)
        known = _known(group, {*names, date})
        day = known.get(date)
        if day is None or day.some_blank:
            continue
        if not isinstance(day.least, dt.date) or not isinstance(day.most, dt.date):
            continue
        if not possible(where, same | {name: known[name] for name in names if name in known}):
            ends = ordinal(str(day.least)), ordinal(str(day.most))
            found[number] = Unread(group.num_rows, *ends)
    return found


def _known(group: Any, names: Iterable[str]) -> dict[str, Known]:
    """Return what the statistics of a row group tell of some columns."""
    columns = (group.column(at) for at in range(group.num_columns))
    own = {column.path_in_schema: column.statistics for column in columns}
    found = {}
    for name in names:
        told = own.get(name)
        if told is None or not told.has_null_count:
            continue
        some, every = told.null_count > 0, told.null_count == group.num_rows
        if told.has_min_max:
            least, most = bound_of(told.min), bound_of(told.max)
            some = some or isinstance(least, float)  # of NaN, which is blank, they tell nothing
            found[name] = Known(least, most, some, every)
        elif every:
            found[name] = Known(None, None, True, True)
    return found
