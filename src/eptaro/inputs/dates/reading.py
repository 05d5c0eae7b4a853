"""A column of any type to days, times of day, and what could not be read."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Flags, Ints
from eptaro.errors import DateError
from eptaro.inputs.dates.forms import THREE_NUMBERS
from eptaro.inputs.dates.numbers import parse_numbers
from eptaro.inputs.dates.texts import (
    DAY,
    MINUTE,
    NO_OFFSET,
    Parsed,
    local_micros,
    parse_texts,
    to_zone,
)
from eptaro.inputs.files.chunks import one_array, to_numpy
from eptaro.rules.dates import DateRules

_DAY_NS = 1000 * DAY
_PER_DAY = {"s": 86_400, "ms": 86_400_000, "us": DAY, "ns": _DAY_NS}


@dataclass(frozen=True, eq=False)
class Read:
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


def is_text(kind: pa.DataType) -> bool:
    """Return whether a type holds text, also coded text."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


_LIKE_A_DATE = re.compile(
    r"\s*(?:\d{8}|\d{1,4}(?:st|nd|rd|th)?[./\-, ]+[\w.]+[./\-, ]+\d{1,4}"
    r"|[^\W\d]+\.?[./\-, ]+\d{1,2}\w*[./\-, ]+\d{2,4})"
)
_SAMPLE = 100


def looks_like_dates(column: pa.ChunkedArray, rules: DateRules) -> bool:
    """Return whether a column of text may hold dates at all, by a sample of its values.

    It is a glance that saves the full look at columns that are plainly something else.
    """
    if not is_text(column.type) or rules.formats or rules.serials or rules.unix:
        return True
    step = max(len(column) // _SAMPLE, 1)
    sample = column.take(pa.array(np.arange(0, len(column), step))).to_pylist()
    return any(text and _LIKE_A_DATE.match(text) for text in sample)


def read_dates(column: pa.ChunkedArray, rules: DateRules, name: str = "the column") -> Read:
    """Return the day ordinal of each row under the rules.

    Raises `DateError` where the whole column is of a kind that holds no dates, or carries
    an offset without a zone to read it in; single bad rows are told in the outcome.
    """
    kind = column.type
    if is_text(kind):
        return _from_text(column, rules, name)
    if pa.types.is_date32(kind):
        days = to_numpy(
            pc.fill_null(column.cast(pa.int32()), 0)
            if column.null_count
            else column.cast(pa.int32())
        )
        return _checked(column, days, None, rules)
    if pa.types.is_date64(kind):
        return _from_stamps(column.cast(pa.timestamp("ms")), rules)
    if pa.types.is_timestamp(kind):
        if kind.tz is None:
            return _from_stamps(column, rules)
        if rules.zone is None:
            raise DateError(_needs_zone(name, f"timestamps of zone {kind.tz}"))
        filled = pc.fill_null(column, pa.scalar(0, kind)) if column.null_count else column
        local = local_micros(one_array(filled), rules.zone)
        utc = to_numpy(filled.cast(pa.timestamp("us", "UTC"), safe=False).cast(pa.int64()))
        return replace(_split(column, local, DAY, rules), offsets=(local - utc) // MINUTE)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return _from_numbers(column, rules)
    if pa.types.is_null(kind):
        return _checked(column, np.zeros(len(column), np.int32), None, rules)
    sample = next((said(value) for value in column if value.is_valid), "none")
    raise DateError(f"{name!r} holds {kind} (such as {sample}), not dates")


def said(value: pa.Scalar) -> str:
    """Return a value as it is told, also where the standard library has no such date."""
    try:
        return repr(value.as_py())
    except (OverflowError, ValueError):
        return str(value.cast(pa.string()).as_py())


def _needs_zone(name: str, what: str) -> str:
    return (
        f"{name!r} holds {what}, whose day depends on the time zone that they are read in; "
        f"say which with zone=, such as zone='UTC'"
    )


def _from_stamps(column: pa.ChunkedArray, rules: DateRules) -> Read:
    whole = column.cast(pa.int64())
    stamps = to_numpy(pc.fill_null(whole, 0) if column.null_count else whole)
    return _split(column, stamps, _PER_DAY[column.type.unit], rules)


def _split(column: pa.ChunkedArray, stamps: Ints, per_day: int, rules: DateRules) -> Read:
    """Return days and times of local timestamps counted in units of which `per_day` make a day."""
    days = stamps // per_day
    times = stamps - days * per_day
    if rules.shift:
        days, times = _shifted(days, times, per_day, rules)
    if per_day != _DAY_NS:
        times *= _DAY_NS // per_day
    return _checked(column, days, times, rules)


def _shifted(days: Ints, times: Ints, per_day: int, rules: DateRules) -> tuple[Ints, Ints]:
    """Return days and times where the small hours belong to the day before; these go on to 28."""
    early = times < rules.shift * per_day // DAY
    return days - early, times + early * per_day


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


def _checked(column: pa.ChunkedArray, days: Ints, times: Ints | None, rules: DateRules) -> Read:
    """Return typed days with blanks, sentinels and days out of range told."""
    bad = np.zeros(len(days), bool)
    reasons: NDArray[Any] | None = None
    if column.null_count:
        bad |= to_numpy(column.is_null())
    outside = np.zeros(0, np.int64)
    if len(days) and (days.min() < FIRST_DAY or days.max() > LAST_DAY):
        outside = np.flatnonzero((days < FIRST_DAY) | (days > LAST_DAY))
        bad[outside] = True
    for day in _sentinel_days(rules):
        bad |= days == day
    if bad.any():
        reasons = np.where(bad, "blank", "").astype(object)
        reasons[outside] = "lies outside the years 1 to 9999"
        days = np.where(bad, 0, days)
        return Read(days.astype(np.int32), times, bad, reasons)
    return Read(days.astype(np.int32, copy=False), times)


def _sentinel_days(rules: DateRules) -> list[int]:
    """Return the day ordinals among the values that count as blank."""
    texts = pa.array(list(rules.blanks), pa.string())
    if not len(texts):
        return []
    parsed = parse_texts(texts, DateRules())
    return [int(day) for day, why in zip(parsed.day, parsed.reason, strict=True) if not why]


def _from_numbers(column: pa.ChunkedArray, rules: DateRules) -> Read:
    values = pc.fill_null(column.cast(pa.float64(), safe=False), 0.0)
    if pa.types.is_integer(column.type):
        whole = to_numpy(pc.fill_null(column, 0).cast(pa.int64()))
    else:
        floats = to_numpy(values)
        whole = np.where(np.abs(floats) < 2**62, floats, 0).astype(np.int64)
    blank = (
        to_numpy(column.is_null()) | np.isin(whole.astype(str), list(rules.blanks))
        if (rules.blanks or column.null_count)
        else None
    )
    return _finished(parse_numbers(to_numpy(values), whole, rules), blank, rules)


def _from_text(column: pa.ChunkedArray, rules: DateRules, name: str) -> Read:
    coded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
    whole = one_array(coded.unify_dictionaries())
    texts = whole.dictionary.cast(pa.string())
    if rules.serials or rules.unix:
        parsed = _numbers_in_text(texts, rules)
    else:
        parsed = parse_texts(texts, rules)
    parsed = _with_blanks(texts, parsed, rules)
    offsets = None
    if (parsed.offset != NO_OFFSET).any():
        if rules.zone is None:
            row = int(np.flatnonzero(parsed.offset != NO_OFFSET)[0])
            raise DateError(_needs_zone(name, f"times with an offset ({texts[row].as_py()!r})"))
        day, micros = to_zone(parsed.day, parsed.micros, parsed.offset, rules.zone)
        stamp = parsed.day * DAY + parsed.micros - parsed.offset * MINUTE
        away = np.where(parsed.offset == NO_OFFSET, 0, (day * DAY + micros - stamp) // MINUTE)
        parsed = replace(parsed, day=day, micros=micros, offset=away)
        offsets = away
    codes = whole.indices
    blank = None
    if whole.null_count:
        blank = codes.is_null().to_numpy(zero_copy_only=False)
        codes = codes.fill_null(0)
    places = codes.to_numpy(zero_copy_only=False)
    if not len(texts):
        empty = np.zeros(len(places), np.int64)
        parsed = Parsed(empty, empty, empty, np.full(len(places), "blank", object))
        return _finished(parsed, blank, rules)
    each = _finished(parsed, None, rules)
    times = None if each.times is None else each.times[places]
    bad = None if each.bad is None else each.bad[places]
    reasons = None if each.reasons is None else each.reasons[places]
    if blank is not None:
        bad = blank if bad is None else bad | blank
        reasons = np.where(blank, "blank", "" if reasons is None else reasons).astype(object)
    return Read(
        each.days[places], times, bad, reasons, None if offsets is None else offsets[places]
    )


def _with_blanks(texts: pa.Array, parsed: Parsed, rules: DateRules) -> Parsed:
    """Mark empty texts and declared sentinels as blank."""
    trimmed = pc.utf8_trim_whitespace(texts)
    blank = pc.is_in(trimmed, pa.array(["", *rules.blanks])).to_numpy(zero_copy_only=False)
    good = parsed.reason == ""
    for day in _sentinel_days(rules):
        blank |= good & (parsed.day == day)
    if not blank.any():
        return parsed
    return replace(parsed, reason=np.where(blank, "blank", parsed.reason).astype(object))


def _numbers_in_text(texts: pa.Array, rules: DateRules) -> Parsed:
    trimmed = pc.utf8_trim_whitespace(texts)
    numeric = pc.match_substring_regex(trimmed, r"^-?[1-8]?\d{1,18}(\.\d+)?$")
    values = pc.if_else(numeric, trimmed, "0").cast(pa.float64()).to_numpy(zero_copy_only=False)
    whole_text = pc.replace_substring_regex(pc.if_else(numeric, trimmed, "0"), r"\..*$", "")
    whole = whole_text.cast(pa.int64()).to_numpy(zero_copy_only=False)
    parsed = parse_numbers(values, whole, rules)
    bad = ~numeric.to_numpy(zero_copy_only=False)
    parsed.reason[bad] = "is not a number"
    return parsed


def _finished(parsed: Parsed, blank: Flags | None, rules: DateRules) -> Read:
    """Return days and times after the shift of the day's start, with the bad rows told."""
    day, micros = parsed.day, parsed.micros
    if rules.shift:
        day, micros = _shifted(day, micros, DAY, rules)
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
        return Read(day.astype(np.int32), times)
    return Read(np.where(bad, 0, day).astype(np.int32), times, bad, reason)


def resolve(column: pa.ChunkedArray, rules: DateRules, name: str) -> tuple[DateRules, str]:
    """Return rules with `order="infer"` decided, and the evidence in words.

    Raises `DateError` where the column does not decide, showing two values that could be
    read both ways, or where it speaks for both orders.
    """
    if rules.order != "infer":
        return rules, ""
    if not is_text(column.type):
        return replace(rules, order=None), f"{name} holds {column.type}"
    found = Evidence.of(column)
    if not found.three:
        order = "ymd" if found.plain else "dmy" if found.words else "mdy"
        return replace(rules, order=order), f"no value of {name} has two numbers to swap"
    if found.day_first and found.month_first:
        raise DateError(
            f"{name!r} holds both orders: {found.day_first[0]!r} can only be day first, "
            f"{found.month_first[0]!r} only month first ({len(found.day_first):,} and "
            f"{len(found.month_first):,} distinct values); say order='dmy' or order='mdy' and "
            f"set the others aside"
        )
    if found.day_first:
        return replace(rules, order="dmy"), f"{found.day_first[0]!r} can only be day first"
    if found.month_first:
        return replace(rules, order="mdy"), f"{found.month_first[0]!r} can only be month first"
    raise DateError(
        f"{name!r} could be read day first or month first: "
        f"{' and '.join(map(repr, found.three[:2]))} fit both, and no value has a number over "
        f"12; say order='dmy' or order='mdy'"
    )


@dataclass(frozen=True)
class Evidence:
    """What the distinct texts of a column say of the order of day and month.

    `three` are those of two small numbers and a year; `day_first` and `month_first` those
    with a number over 12 in the first or second place. `plain`: all begin with a year;
    `words`: some begin with a number before a word.
    """

    three: list[str]
    day_first: list[str]
    month_first: list[str]
    plain: bool
    words: bool

    @classmethod
    def of(cls, column: pa.ChunkedArray) -> Evidence:
        """Look at every distinct text of a column."""
        texts = column.cast(pa.string()) if pa.types.is_dictionary(column.type) else column
        distinct = pc.unique(texts).drop_null().cast(pa.string())
        found = pc.extract_regex(pc.utf8_trim_whitespace(distinct), THREE_NUMBERS)
        shown, parts = distinct.filter(found.is_valid()), found.filter(found.is_valid())
        first, second = (pc.struct_field(parts, part).cast(pa.int64()) for part in ("a", "b"))
        return cls(
            shown.to_pylist(),
            shown.filter(pc.greater(first, 12)).to_pylist(),
            shown.filter(pc.greater(second, 12)).to_pylist(),
            bool(pc.all(pc.match_substring_regex(distinct, r"^\d{4}")).as_py()),
            bool(pc.any(pc.match_substring_regex(distinct, r"^\d{1,2}\D+\p{L}")).as_py()),
        )
