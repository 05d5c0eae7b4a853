"""A column of any type to days, times of day, and what could not be read."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.errors import DateError
from eptaro.inputs.dates.outcome import Read, checked, is_text, needs_zone, said
from eptaro.inputs.dates.periods import reason_for, standing_for
from eptaro.inputs.dates.stamps import days_and_times, from_numbers, from_stamps
from eptaro.inputs.dates.texts import DAY, MINUTE, local_micros
from eptaro.inputs.dates.written import from_text
from eptaro.inputs.files.chunks import one_array, to_numpy
from eptaro.rules.dates import DateRules

_LIKE_A_DATE = re.compile(
    r"\s*(?:\d{8}|\d{1,4}(?:st|nd|rd|th)?[./\-, ]+[\w.]+[./\-, ]+\d{1,4}"
    r"|[^\W\d]+\.?[./\-, ]+\d{1,2}\w*[./\-, ]+\d{2,4}"
    r"|\d{4}-\d{2}$|\d{4}[./\- ]?(?:[Qq]\d|[Ww]\d\d)$|[Qq]\d[./\- ]?\d{4}$"
    r"|[^\W\d]{3,}\.?[./\-, ]+\d{2,4}$|\d{4}[./\-, ]+[^\W\d]{3,}\.?$)"
)


_SAMPLE = 100


def looks_like_dates(column: pa.ChunkedArray, rules: DateRules) -> bool:
    """Return whether a column of text may hold dates at all, by a sample of its values.

    It is a glance that saves the full look at columns that are plainly something else.
    """
    if not is_text(column.type) or rules.formats or rules.serials or rules.unix or rules.grain:
        return True
    step = max(len(column) // _SAMPLE, 1)
    sample = column.take(pa.array(np.arange(0, len(column), step))).to_pylist()
    return any(text and _LIKE_A_DATE.match(text) for text in sample)


def read_dates(column: pa.ChunkedArray, rules: DateRules, name: str = "the column") -> Read:
    """Return the day ordinal of each row under the rules, and the grain of the column.

    Raises `DateError` where the whole column is of a kind that holds no dates, or carries
    an offset without a zone to read it in; single bad rows are told in the outcome.
    """
    if is_text(column.type):
        return from_text(column, rules, name)
    return in_periods(_typed(column, rules, name), rules)


def in_periods(read: Read, rules: DateRules) -> Read:
    """Return days as the periods that they stand for, where the rules give a grain."""
    if rules.grain is None:
        return replace(read, grain="day")
    days, astray = standing_for(read.days, rules.grain)
    bad = np.zeros(len(days), bool) if read.bad is None else read.bad
    reasons = np.where(bad, "", "").astype(object) if read.reasons is None else read.reasons
    astray &= ~bad
    if not astray.any():
        return replace(read, days=days.astype(np.int32), grain=rules.grain, times=None)
    reasons = np.where(astray, reason_for(rules.grain), reasons).astype(object)
    kept = np.where(astray, 0, days).astype(np.int32)
    return Read(kept, None, bad | astray, reasons, read.offsets, rules.grain)


def _typed(column: pa.ChunkedArray, rules: DateRules, name: str) -> Read:
    kind = column.type
    if pa.types.is_date32(kind):
        days = to_numpy(
            pc.fill_null(column.cast(pa.int32()), 0)
            if column.null_count
            else column.cast(pa.int32())
        )
        return checked(column, days, None, rules)
    if pa.types.is_date64(kind):
        return from_stamps(column.cast(pa.timestamp("ms")), rules)
    if pa.types.is_timestamp(kind):
        if kind.tz is None:
            return from_stamps(column, rules)
        if rules.zone is None:
            raise DateError(needs_zone(name, f"timestamps of zone {kind.tz}"))
        filled = pc.fill_null(column, pa.scalar(0, kind)) if column.null_count else column
        local = local_micros(one_array(filled), rules.zone)
        utc = to_numpy(filled.cast(pa.timestamp("us", "UTC"), safe=False).cast(pa.int64()))
        return replace(days_and_times(column, local, DAY, rules), offsets=(local - utc) // MINUTE)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return from_numbers(column, rules)
    if pa.types.is_null(kind):
        return checked(column, np.zeros(len(column), np.int32), None, rules)
    sample = next((said(value) for value in column if value.is_valid), "none")
    raise DateError(f"{name!r} holds {kind} (such as {sample}), not dates")


def settled_start(parts: Iterable[pa.ChunkedArray], rules: DateRules, name: str) -> DateRules:
    """Return the rules without `day_starts` where no time is told in any part of a column.

    What is all midnight are dates, and stay what they are; that is for the whole column to
    say, not for the batch that happens to be read.
    """
    if not rules.shift:
        return rules
    plain = replace(rules, day_starts="00:00")
    for part in parts:
        read = read_dates(part, plain, name)
        if read.times is not None and read.times.any():
            return rules
    return plain
