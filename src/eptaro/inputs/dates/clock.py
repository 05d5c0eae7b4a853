"""Columns of times of day: `11:38:36`, `5:00 p.m.`, and numbers of hours or minutes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.errors import DateError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.reading import DAY_NS, ParsedDates, is_text, read_dates, shift_day_start
from eptaro.inputs.files.chunks import encode_dictionary, to_numpy
from eptaro.option import setting
from eptaro.record import record
from eptaro.rules import DateRules

_TIME = (
    r"(?i)^(?P<hour>\d{1,2})(?::(?P<minute>\d{2})"
    r"(?::(?P<second>\d{2})(?:[.,](?P<part>\d{1,9})\d*)?)?)?"
    r"\s*(?:(?P<half>[ap])\.?\s?m\.?)?$"
)
LOOKS = r"(?i)^\s*\d{1,2}(:\d{2}(:\d{2}([.,]\d+)?)?\s*([ap]\.?\s?m\.?)?|\s*[ap]\.?\s?m\.?)\s*$"
_NUMBER = r"^\d+(\.\d+)?$"
_SECOND = 1_000_000_000
_PER_UNIT = {"hours": 3600 * _SECOND, "minutes": 60 * _SECOND, "seconds": _SECOND}
_LAST = DAY_NS - 1  # 24:00 is the end of its day, and no hour of the next


@record
class Clock:
    """Times of day: nanoseconds since midnight, which rows have none, and which hold no time."""

    times: Ints
    blank: Flags
    bad: Flags


def holds_clock(column: pa.ChunkedArray) -> bool:
    """Return whether a column holds times of day: by its type, or all its first texts say so."""
    kind = column.type
    if pa.types.is_time(kind):
        return True
    if not is_text(kind):
        return False
    some = pc.utf8_trim_whitespace(column.slice(0, 1000).cast(pa.string()).drop_null())
    some = some.filter(pc.not_equal(some, ""))
    return len(some) > 0 and bool(pc.all(pc.match_substring_regex(some, LOOKS)).as_py())


def read_clock(column: pa.ChunkedArray, rules: DateRules, name: str) -> Clock:
    """Return the times of day of a column of `n_rows`.

    Raises `DateError` for a column that holds none, and for numbers above 24 of which no rule
    says what they count.
    """
    kind = column.type
    if is_text(kind):
        return _of_texts(column, rules, name)
    blank = to_numpy(column.is_null())
    if pa.types.is_null(kind):
        return Clock(np.zeros(len(column), np.int64), blank, np.zeros(len(column), bool))
    if pa.types.is_time(kind) or pa.types.is_duration(kind):
        whole = pa.int32() if pa.types.is_time32(kind) else pa.int64()
        unit = {"s": _SECOND, "ms": 1_000_000, "us": 1_000, "ns": 1}[kind.unit]
        times = to_numpy(pc.fill_null(column.cast(whole), 0)).astype(np.int64) * unit
        return _within_day(times, blank, np.zeros(len(blank), bool))
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        values = to_numpy(pc.fill_null(column.cast(pa.float64(), safe=False), np.nan))
        return _of_numbers(values, rules, name)
    raise DateError(f"{name!r} holds {kind}, not times of day")


def _within_day(times: Ints, blank: Flags, bad: Flags) -> Clock:
    """Return times, those bad that lie outside of a day; its end is its last moment."""
    bad = bad | (times < 0) | (times > DAY_NS)
    return Clock(np.where(bad | blank, 0, np.minimum(times, _LAST)), blank, bad & ~blank)


def _of_numbers(values: NDArray[np.float64], rules: DateRules, name: str) -> Clock:
    blank = np.isnan(values)
    numbers = np.where(blank, 0.0, values)
    unit = rules.time_in
    if unit is None:
        large = np.flatnonzero(numbers > 24)
        if len(large):
            raise DateError(
                f"{name!r} holds {values[large[0]]:g}, and a day has 24 hours; say what its "
                f"numbers count with {setting(DateRules, 'time_in')}, such as "
                f"{setting(DateRules, 'time_in', 'hhmm')} for 1730, half past five"
            )
        unit = "hours"
    wrong = (numbers < 0) | (numbers > 86_400)
    numbers = np.where(wrong, 0.0, numbers)
    if unit == "hhmm":
        hours, minutes = np.divmod(numbers, 100)
        wrong = wrong | (minutes >= 60) | (minutes != np.floor(minutes))
        numbers, unit = hours * 60 + minutes, "minutes"
    times = np.rint(numbers * _PER_UNIT[unit]).astype(np.int64)
    return _within_day(times, blank, wrong)


def _of_texts(column: pa.ChunkedArray, rules: DateRules, name: str) -> Clock:
    """Return times from their texts, each of which is read once."""
    whole = encode_dictionary(column)
    texts = pc.utf8_trim_whitespace(pa.chunked_array([whole.dictionary.cast(pa.string())]))
    codes = whole.indices.fill_null(len(texts)) if whole.null_count else whole.indices
    places = codes.to_numpy(zero_copy_only=False)
    empty = to_numpy(pc.is_in(texts, pc.array_of_texts(["", *rules.blanks])))
    matches = pc.extract_regex(texts, _TIME)
    timed = to_numpy(matches.is_valid())
    plain = to_numpy(pc.match_substring_regex(texts, _NUMBER)) & ~empty
    parts = {part: _number_of_part(matches, part) for part in ("hour", "minute", "second")}
    hour, minute, second = parts.values()
    half = pc.utf8_lower(_field(matches, "half"))
    noon = to_numpy(pc.equal(half, "p"))
    halved = noon | to_numpy(pc.equal(half, "a"))
    bad = ~timed | (minute > 59) | (second > 59) | (halved & ((hour < 1) | (hour > 12)))
    hour = np.where(halved, hour % 12 + 12 * noon, hour)
    fraction = pc.utf8_rpad(_field(matches, "part"), 9, "0")
    rest = to_numpy(pc.if_else(pc.equal(fraction, "0" * 9), "0", fraction).cast(pa.int64()))
    clock = _within_day(((hour * 60 + minute) * 60 + second) * _SECOND + rest, empty, bad)
    if plain.any():  # 13, 13.5 or 1330
        numeric = pc.if_else(pa.chunked_array([pa.array(plain)]), texts, None).cast(pa.float64())
        numbers = _of_numbers(to_numpy(pc.fill_null(numeric, np.nan)), rules, name)
        clock = Clock(
            np.where(plain, numbers.times, clock.times),
            clock.blank,
            np.where(plain, numbers.bad, clock.bad),
        )
    every = Clock(np.append(clock.times, 0), np.append(clock.blank, True), np.append(clock.bad, 0))
    return Clock(every.times[places], every.blank[places], every.bad[places].astype(bool))


def _field(matches: Any, part: str) -> Any:
    """Return a part of matched texts, empty where it is not there."""
    return pc.fill_null(pc.struct_field(matches, part), "")


def _number_of_part(matches: Any, part: str) -> Ints:
    text = _field(matches, part)
    numbers = pc.if_else(pc.equal(text, ""), "0", text)
    return to_numpy(numbers.cast(pa.int64())).astype(np.int64)


def read_timed_dates(table: pa.Table, date: str, rules: DateRules) -> ParsedDates:
    """Return the days of a column, with times of day where rules name a column of these."""
    if rules.time is None:
        return read_dates(table[date], rules, date)
    parsed = read_dates(table[date], replace(rules, day_starts="00:00"), date)
    return add_clock(parsed, table[rules.time], rules, date)


def add_clock(
    parsed: ParsedDates, column: pa.ChunkedArray, rules: DateRules, name: str
) -> ParsedDates:
    """Return days with the times of day of another column, -1 for a row without one, which comes
    first of its day and is in no hour.

    Days are those before any shift of the day's start, which is applied here. Raises `DateError`
    where the dates have times themselves, or are periods.
    """
    if (parsed.times is not None and np.asarray(parsed.times).any()) or parsed.offsets is not None:
        raise DateError(
            f"{name!r} holds times itself; leave out {setting(DateRules, 'time', rules.time)}"
        )
    if parsed.grain not in (None, "day"):
        raise DateError(
            f"{name!r} is dated by the {parsed.grain}, which has no time of day; leave out "
            f"{setting(DateRules, 'time', rules.time)}"
        )
    clock = read_clock(column, rules, rules.time or "")
    days, times = parsed.days, np.where(clock.blank, -1, clock.times)
    if rules.shift:
        timed = ~clock.blank & ~clock.bad
        shifted, moved = shift_day_start(days, times, DAY_NS, rules)
        days, times = np.where(timed, shifted, days).astype(np.int32), np.where(timed, moved, times)
    untimed = int(np.count_nonzero(clock.blank))
    with_clock = replace(parsed, days=days, times=times, untimed=untimed)
    if not clock.bad.any():
        return with_clock
    bad = np.zeros(len(days), bool) if parsed.bad is None else parsed.bad
    reasons = np.full(len(days), "", object) if parsed.reasons is None else parsed.reasons.copy()
    for row in np.flatnonzero(clock.bad & ~bad).tolist():
        value = column[row].as_py()
        word = isinstance(value, str) and not any(map(str.isdigit, value))
        cure = f" ({setting(DateRules, 'blanks', value)} counts it as blank)" if word else ""
        reasons[row] = f"has the time {value!r} in {rules.time!r}, which is none{cure}"
    bad = bad | clock.bad
    return replace(
        with_clock, days=np.where(bad, 0, days).astype(np.int32), bad=bad, reasons=reasons
    )
