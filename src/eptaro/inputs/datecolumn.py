"""The column of dates of a source: which it is, and what all of it has to say about its rules."""

from __future__ import annotations

import pyarrow as pa

from eptaro.core.calendars.grain import Grain
from eptaro.errors import DateError, EptaroError, InputError
from eptaro.inputs.dates.reading import looks_like_dates, read_dates, settled_start
from eptaro.inputs.sources import Source, Wanted
from eptaro.rules.dates import DateRules


def decided(source: Source, date: str, rules: DateRules) -> tuple[DateRules, str]:
    """Return rules with all decided that the whole column of dates has to say, and the evidence
    for the order of day and month.
    """
    evidence = ""
    try:
        if rules.order == "infer":
            from eptaro.inputs.dates.evidence import resolve

            rules, evidence = resolve(source.column(date), rules, date)
        if rules.shift:
            parts = (table[date] for table in source.batches(Wanted(date)))
            rules = settled_start(parts, rules, date)
    except DateError as error:
        raise DateError(f"{source.name}: {error}") from None
    return rules, evidence


def find_date(source: Source, rules: DateRules) -> str:
    """Return the one column that can be dates, judged by its first batch: days before months.

    Raises `InputError` where none or several can.
    """
    first = next(source.whole(), None)
    if first is None or not first.num_rows:
        raise InputError(f"{source.name}: has column names but no rows")
    grains = {name: _may_be_dates(first[name], rules) for name in first.column_names}
    days = [name for name, grain in grains.items() if grain == "day"]
    found = days or [name for name, grain in grains.items() if grain is not None]
    if len(found) != 1:
        what = f"{', '.join(found)} could all be dates" if found else "no column is plainly dates"
        raise InputError(f"{source.name}: {what}; say which with date")
    return str(found[0])


def _may_be_dates(column: pa.ChunkedArray, rules: DateRules) -> Grain | None:
    """Return what the dates of a column may stand for, None where it can be none."""
    kind = column.type
    if not looks_like_dates(column, rules):
        return None
    numbers = pa.types.is_integer(kind) or pa.types.is_floating(kind)
    if numbers and not rules.serials and not rules.grain:
        whole = column.drop_null()
        if not len(whole) or not all(len(str(v.as_py()).split(".")[0]) == 8 for v in whole[:200]):
            return None
    from eptaro.inputs.dates.evidence import resolve

    try:
        decided, _ = resolve(column.slice(0, 5000), rules, "")
        read = read_dates(column.slice(0, 5000), decided)
    except EptaroError:
        return None
    blank = read.reasons is not None and (read.reasons == "blank").all()
    return read.grain if not blank and (read.bad is None or read.bad.mean() < 0.2) else None
