"""Reading a date column strictly: date and timestamp types, and ISO text."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.days import FIRST_DAY, LAST_DAY, ordinal
from eptaro.core.errors import DateError
from eptaro.inputs.chunks import to_numpy

_ISO_TEXT = r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}([.,]\d{1,9})?)?)?$"
_PER_DAY = {"s": 86_400, "ms": 86_400_000, "us": 86_400_000_000, "ns": 86_400_000_000_000}


def read_days(column: pa.ChunkedArray, name: str, source: str) -> NDArray[np.int32]:
    """Return the day ordinal of each row.

    Raises `DateError` naming the first row that holds no date, with its value and why.
    Rows are counted from 1, a header not counted.
    """
    kind = column.type
    if pa.types.is_dictionary(kind):
        column, kind = column.cast(kind.value_type), kind.value_type
    text = pa.types.is_string(kind) or pa.types.is_large_string(kind)
    if column.null_count and not text:
        row = pc.index(column.is_null(), True).as_py()
        raise DateError(
            f"{source}: {column.null_count:,} of {len(column):,} rows have no date in {name!r}; "
            f"the first is row {row + 1:,}"
        )
    if pa.types.is_date32(kind):
        days = to_numpy(column.cast(pa.int32()))
    elif pa.types.is_date64(kind):
        days = _floor_days(column, "ms")
    elif pa.types.is_timestamp(kind) and kind.tz is None:
        days = _floor_days(column, kind.unit)
    elif text:
        days = _iso_days(column, name, source)
    else:
        raise DateError(f"{source}: {name!r} {_refusal(column)}")
    if days.min() < FIRST_DAY or days.max() > LAST_DAY:
        row = int(np.flatnonzero((days < FIRST_DAY) | (days > LAST_DAY))[0])
        raise DateError(f"{source}: row {row + 1:,} of {name!r} lies outside the years 1 to 9999")
    return days.astype(np.int32, copy=False)


def _refusal(column: pa.ChunkedArray) -> str:
    kind, sample = column.type, column[0].as_py() if len(column) else None
    accepted = "give ISO dates such as 2025-08-20, or a date or timestamp column without an offset"
    if pa.types.is_timestamp(kind):
        return (
            f"holds timestamps with an offset or time zone ({kind.tz}), whose day depends on the "
            f"zone they are read in; {accepted}"
        )
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return f"holds numbers (row 1: {sample}), not dates; {accepted}"
    return f"holds {kind} (row 1: {sample!r}), not dates; {accepted}"


def _floor_days(column: pa.ChunkedArray, unit: str) -> NDArray[np.int32]:
    per_day = _PER_DAY[unit]
    out = np.empty(len(column), np.int32)
    start = 0
    for chunk in column.cast(pa.int64()).chunks:
        out[start : start + len(chunk)] = np.asarray(chunk) // per_day
        start += len(chunk)
    return out


def _iso_days(column: pa.ChunkedArray, name: str, source: str) -> NDArray[np.int32]:
    """Return the days of ISO text; a time of day may follow and is left out."""
    formed = pc.fill_null(pc.match_substring_regex(column, _ISO_TEXT), False)
    dates = pc.utf8_slice_codeunits(column, 0, 10)
    try:
        if pc.all(formed).as_py():
            return to_numpy(dates.cast(pa.date32()).cast(pa.int32()))
    except pa.ArrowInvalid:
        pass  # a day such as 30 February: found row by row below
    raise DateError(_unreadable(column, formed, name, source))


def _unreadable(column: pa.ChunkedArray, formed: pa.ChunkedArray, name: str, source: str) -> str:
    """Say how many rows hold no ISO date, and of the first which and why (error path only)."""
    faults = []
    for row, (text, is_formed) in enumerate(zip(column, formed, strict=True), 1):
        if reason := _fault(text.as_py(), is_formed.as_py()):
            faults.append((row, reason))
    row, reason = faults[0]
    return (
        f"{source}: {len(faults):,} of {len(column):,} rows hold no ISO date in {name!r}; "
        f"the first is row {row:,}: {reason}"
    )


def _fault(text: str | None, is_formed: bool) -> str:
    if text is None or not text.strip():
        return "blank"
    if not is_formed:
        return f"{text!r} is not written as 2025-08-20"
    try:
        ordinal(text[:10])
    except DateError:
        return f"{text!r} does not exist in the calendar"
    return ""
