"""`ParsedDates`: the days of a column, and which rows could not be read."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Flags, Ints
from eptaro.core.calendars.grain import Grain
from eptaro.core.kernels.mask import RowMask
from eptaro.inputs.dates.texts import DAY, Parsed, parse_texts
from eptaro.inputs.files.chunks import to_numpy
from eptaro.option import setting
from eptaro.rules.dates import DateRules

DAY_NS = 1000 * DAY


@dataclass(frozen=True, eq=False)
class ParsedDates:
    """Days of a column, times of day where it has any, and which rows could not be read.

    Times are nanoseconds since the day's midnight; a day that starts at 04:00 has those of
    4 to 28 hours.

    `reasons` says of every bad row why; both are None where all rows are good.
    """

    days: NDArray[np.int32]
    times: Ints | None = None
    bad: Flags | None = None
    reasons: NDArray[Any] | None = None
    offsets: Ints | None = None  # minutes from UTC, where the column carries any
    grain: Grain | None = None  # what the days represent, None where there are none

    def kept(self, keeping: RowMask) -> ParsedDates:
        """Return the rows that are kept."""

        def of(part: NDArray[Any] | None) -> NDArray[Any] | None:
            return None if part is None else keeping.of(part)

        return ParsedDates(
            keeping.of(self.days),
            of(self.times),
            of(self.bad),
            of(self.reasons),
            of(self.offsets),
            self.grain,
        )


def is_text(kind: pa.DataType) -> bool:
    """Return whether a type holds text, also coded text."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def show_value(value: pa.Scalar) -> str:
    """Return a value as messages show it, also where the standard library has no such date."""
    try:
        return repr(value.as_py())
    except (OverflowError, ValueError):
        return str(value.cast(pa.string()).as_py())


def needs_zone(name: str, what: str) -> str:
    """Return the message for values whose day depends on a zone that is not given."""
    return (
        f"{name!r} holds {what}, whose day depends on the time zone that they are read in; "
        f"use {setting(DateRules, 'zone')}, such as {setting(DateRules, 'zone', 'UTC')}"
    )


def shift_day_start(days: Days, times: Ints, per_day: int, rules: DateRules) -> tuple[Days, Ints]:
    """Return days and times where the small hours belong to the day before; these go on to 28."""
    early = times < rules.shift * per_day // DAY
    return days - early, times + early * per_day


def check_typed_days(
    column: pa.ChunkedArray, days: Days, times: Ints | None, rules: DateRules
) -> ParsedDates:
    """Return typed days with blanks, sentinels and days out of range marked as bad."""
    bad = np.zeros(len(days), bool)
    reasons: NDArray[Any] | None = None
    if column.null_count:
        bad |= to_numpy(column.is_null())
    outside = np.zeros(0, np.int64)
    if len(days) and (days.min() < FIRST_DAY or days.max() > LAST_DAY):
        outside = np.flatnonzero((days < FIRST_DAY) | (days > LAST_DAY))
        bad[outside] = True
    for day in sentinel_days(rules):
        bad |= days == day
    if bad.any():
        reasons = np.where(bad, "blank", "").astype(object)
        reasons[outside] = "lies outside the years 1 to 9999"
        days = np.where(bad, 0, days)
        return ParsedDates(days.astype(np.int32), times, bad, reasons)
    return ParsedDates(days.astype(np.int32, copy=False), times)


def sentinel_days(rules: DateRules) -> list[int]:
    """Return the day ordinals among the values that count as blank."""
    texts = pa.array(list(rules.blanks), pa.string())
    if not len(texts):
        return []
    parsed = parse_texts(texts, DateRules())
    return [int(day) for day, why in zip(parsed.day, parsed.reason, strict=True) if not why]


def finish_days(parsed: Parsed, blank: Flags | None, rules: DateRules) -> ParsedDates:
    """Return days and times after the shift of the day's start, with the bad rows marked."""
    day: Days = parsed.day
    micros = parsed.micros
    if rules.shift:
        day, micros = shift_day_start(day, micros, DAY, rules)
    reason = parsed.reason
    if blank is not None:
        reason = np.where(blank, "blank", reason).astype(object)
    bad = reason != ""
    outside = ~bad & ((day < FIRST_DAY) | (day > LAST_DAY))
    if outside.any():
        reason[outside] = "lies outside the years 1 to 9999"
        bad |= outside
    times = micros * 1000 if micros.any() else None
    if not bad.any():
        return ParsedDates(day.astype(np.int32), times)
    return ParsedDates(np.where(bad, 0, day).astype(np.int32), times, bad, reason)
