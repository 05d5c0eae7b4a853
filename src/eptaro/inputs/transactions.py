"""A source's columns as a `Batch` of transactions, ready to fold."""

from __future__ import annotations

from collections.abc import Iterable

from eptaro.core.errors import InputError
from eptaro.core.fold import Batch
from eptaro.core.measures import Plane
from eptaro.inputs.dates import read_days
from eptaro.inputs.sources import Source, Wanted
from eptaro.inputs.values import read_filled, read_groups, read_numbers


def read_transactions(source: Source, date: str, by: list[str], planes: Iterable[Plane]) -> Batch:
    """Read what the planes need of a source.

    Raises `InputError` for a missing column or no rows, `DateError` for a date that
    cannot be read, `MeasureError` for a column that cannot be added up.
    """
    summed = {plane.column for plane in planes if plane.what == "sum"}
    counted = {plane.column for plane in planes if plane.what == "filled"}
    table = source.read(Wanted(date, by, sorted(summed | counted)))
    if not table.num_rows:
        raise InputError(f"{source.name}: has column names but no rows")
    days = read_days(table[date], date, source.name)
    groups = {name: read_groups(table[name], name, source.name) for name in by}
    values = {name: read_filled(table[name], name) for name in counted - summed}
    for name in summed:
        values[name] = read_numbers(table[name], name, source)
    return Batch(days, groups, values)
