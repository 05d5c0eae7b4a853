"""The parts of the time that `annotate` adds to rows."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import Ints, civil, month_starts
from eptaro.core.tables.column import Column
from eptaro.errors import QuestionError
from eptaro.inputs.dates import Read
from eptaro.outputs.arrow import to_array

_SECOND = 1_000_000
_SPANS = {"hour": 3600 * _SECOND, "minute": 60 * _SECOND, "second": _SECOND}
_STAMP = pa.timestamp("us")


class TimePart(NamedTuple):
    """One part of the time that can be added: what it is, and how it comes from a reading."""

    description: str
    compute: Callable[[Read, Ints], pa.Array]


def _number(take: Callable[[Ints], Ints]) -> Callable[[Read, Ints], pa.Array]:
    return lambda read, times: pa.array(take(times).astype(np.int32))


def _edge(width: int, *, end: bool) -> Callable[[Read, Ints], pa.Array]:
    def compute(read: Read, times: Ints) -> pa.Array:
        start = read.days.astype(np.int64) * 86_400 * _SECOND + times // width * width
        return pa.array(start + (width - 1 if end else 0)).cast(_STAMP)

    return compute


def _years(width: int, first_year: int, *, end: bool) -> Callable[[Read, Ints], pa.Array]:
    """Return the first or last day of the civil decade or century."""

    def compute(read: Read, times: Ints) -> pa.Array:
        year = (civil(read.days)[0] - first_year) // width * width + first_year
        months = (year + (width if end else 0) - 1970) * 12
        days = month_starts(months) - (1 if end else 0)
        return to_array(Column.of("", "date", days))

    return compute


def _offset_text(read: Read, times: Ints) -> pa.Array:
    minutes = _offsets(read)
    texts = {
        m: f"{'-' if m < 0 else '+'}{abs(m) // 60:02d}:{abs(m) % 60:02d}"
        for m in np.unique(minutes).tolist()
    }
    return pa.array([texts[m] for m in minutes.tolist()])


def _offsets(read: Read) -> Ints:
    if read.offsets is None:
        raise QuestionError(
            "the dates carry no UTC offset; leave utc_offset_minutes and utc_offset_text out"
        )
    return read.offsets


TIME_PARTS: dict[str, TimePart] = {
    "hour": TimePart("Hour of the day, 0 to 23", _number(lambda t: t // _SPANS["hour"] % 24)),
    "minute": TimePart("Minute of the hour", _number(lambda t: t // _SPANS["minute"] % 60)),
    "second": TimePart("Second of the minute", _number(lambda t: t // _SECOND % 60)),
    "fraction": TimePart("Microseconds of the second", _number(lambda t: t % _SECOND)),
    "utc_offset_minutes": TimePart(
        "Minutes that local time is ahead of UTC",
        lambda read, _: pa.array(_offsets(read).astype(np.int32)),
    ),
    "utc_offset_text": TimePart("The same as text, +01:00", _offset_text),
    **{
        f"{level}_{'last' if end else 'first'}_moment": TimePart(
            f"{'Last' if end else 'First'} moment of the {level}", _edge(width, end=end)
        )
        for level, width in _SPANS.items()
        for end in (False, True)
    },
    **{
        f"{level}_{'last' if end else 'first'}": TimePart(
            f"{'Last' if end else 'First'} day of the {level}", _years(width, first, end=end)
        )
        for level, width, first in (("decade", 10, 0), ("century", 100, 1))
        for end in (False, True)
    },
}
