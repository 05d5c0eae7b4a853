"""Reading columns of dates of any type and form to days and times."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Flags, Ints
from eptaro.core.calendars.grain import GRAINS, WEEKS, Grain, counting_days, plural_of
from eptaro.core.kernels.parallel import gather
from eptaro.core.kernels.reading import (
    NO_MINUTES,
    Automaton,
    RowMask,
    StampTimes,
    TextStamps,
    Times,
    days_of_stamps,
    read_stamps,
)
from eptaro.errors import DateError, spell_option
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.texts import (
    DAY,
    MINUTE,
    NO_OFFSET,
    OUTSIDE,
    ParsedTexts,
    parse_texts,
    reason_for,
    standing_for,
    week_of,
)
from eptaro.inputs.files.chunks import (
    damaged_text,
    encode_dictionary,
    is_plain_text,
    one_array,
    text_bytes,
    to_numpy,
)
from eptaro.option import setting
from eptaro.record import record
from eptaro.rules import DateRules

DAY_NS = 1000 * DAY


@record
class ParsedDates:
    """Days of a column, times of day where it has any, and which rows could not be read.

    Times are nanoseconds since the day's midnight, -1 where there is none; a day that starts at
    04:00 has those of 4 to 28 hours.

    `reasons` says of every bad row why; both are None where all rows are good.
    """

    days: NDArray[np.int32]
    times: Times | None = None
    bad: Flags | None = None
    reasons: NDArray[Any] | None = None
    offsets: Ints | None = None  # minutes from UTC, where the column carries any
    grain: Grain | None = None  # what the days represent, None where there are none
    untimed: int = 0  # rows without a time in the column that holds these

    def take(self, keeping: RowMask) -> ParsedDates:
        """Return the rows that are kept."""

        def of(part: NDArray[Any] | None) -> NDArray[Any] | None:
            return None if part is None else keeping.of(part)

        times = self.times
        if isinstance(times, StampTimes):
            times = replace(times, stamps=keeping.of(times.stamps))
        elif times is not None:
            times = keeping.of(times)
        return ParsedDates(
            keeping.of(self.days),
            times,
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


def day_numbers(column: pa.ChunkedArray) -> NDArray[np.int32]:
    """Return the ordinals of a column of dates, 0 for blanks.

    >>> day_numbers(pa.chunked_array([pa.array([7, None], pa.date32())])).tolist()
    [7, 0]
    """
    whole = pa.chunked_array([part.view(pa.int32()) for part in column.chunks], pa.int32())
    return to_numpy(pc.fill_null(whole, 0) if column.null_count else whole)


def takes_plain_days(rules: DateRules) -> bool:
    """Return whether a day in ISO 8601 (2025-08-20) is read as that day.

    >>> rules = ({}, {"order": "dmy"}, {"day_starts": "04:00"}, {"grain": "week"},
    ...          {"weeks": "ending friday"}, {"formats": "%d.%m.%Y"})
    >>> [takes_plain_days(DateRules(**rule)) for rule in rules]
    [True, True, False, False, False, False]
    """
    others = (rules.formats, rules.serials, rules.unix, rules.shift, rules.weeks)
    return not any(others) and not rules.fiscal_periods and rules.grain in (None, "day")


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
    column: pa.ChunkedArray, days: Days, times: Times | None, rules: DateRules
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
        reasons[outside] = OUTSIDE
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


def finish_days(parsed: ParsedTexts, blank: Flags | None, rules: DateRules) -> ParsedDates:
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
        reason[outside] = OUTSIDE
        bad |= outside
    times = micros * 1000 if micros.any() else None
    if not bad.any():
        return ParsedDates(day.astype(np.int32), times)
    return ParsedDates(np.where(bad, 0, day).astype(np.int32), times, bad, reason)


_PER_DAY = {"s": 86_400, "ms": 86_400_000, "us": DAY, "ns": DAY_NS}


def from_stamps(column: pa.ChunkedArray, rules: DateRules) -> ParsedDates:
    """Return the days and times of timestamps without a zone."""
    whole = column.cast(pa.int64())
    stamps = to_numpy(pc.fill_null(whole, 0) if column.null_count else whole)
    return days_and_times(column, stamps, _PER_DAY[column.type.unit], rules)


def days_and_times(
    column: pa.ChunkedArray, stamps: Ints, per_day: int, rules: DateRules
) -> ParsedDates:
    """Return days and times of local timestamps counted in units of which `per_day` make a day."""
    days: Days = days_of_stamps(stamps, per_day)
    times: Times = StampTimes(stamps, per_day)
    if rules.shift:
        days, times = shift_day_start(days, times[:], DAY_NS, rules)
    return check_typed_days(column, days, times, rules)


def from_numbers(column: pa.ChunkedArray, rules: DateRules, name: str) -> ParsedDates:
    """Return the days of numbers, whichever way the rules say that these are written."""
    from eptaro.inputs.dates.numbers import digits_in_order, parse_numbers  # few dates are numbers

    if (texts := digits_in_order(column, rules)) is not None:
        return from_text(texts, rules, name)
    if pa.types.is_integer(column.type) and (found := _from_range(column, rules)) is not None:
        return found
    values = pc.fill_null(column.cast(pa.float64(), safe=False), 0.0)
    if pa.types.is_integer(column.type):
        whole = to_numpy(pc.fill_null(column, 0).cast(pa.int64()))
    else:
        floats = to_numpy(values)
        whole = np.where(np.abs(floats) < 2**62, floats, 0).astype(np.int64)
    parsed = parse_numbers(to_numpy(values), whole, rules)
    blank = to_numpy(column.is_null()) if column.null_count else None
    if rules.blanks:
        named = np.isin(whole.astype(str), list(rules.blanks))
        for day in sentinel_days(rules):
            named |= (parsed.reason == "") & (parsed.day == day)
        blank = named if blank is None else blank | named
    return finish_days(parsed, blank, rules)


def _from_range(column: pa.ChunkedArray, rules: DateRules) -> ParsedDates | None:
    """Return the days of whole numbers, each of those between the least and the largest read once;
    None where that would be no fewer.
    """
    ends = pc.min_max(column).as_py()
    least, most = ends["min"], ends["max"]
    if least is None or most - least + 1 > len(column) // 2 or not -_FAR < least <= most < _FAR:
        return None
    from eptaro.inputs.dates.numbers import NO_DAY, days_of_digits

    filled = pc.fill_null(column, least) if column.null_count else column
    if pa.types.is_uint64(filled.type):  # which NumPy takes for no place
        filled = filled.cast(pa.int64())
    places = to_numpy(filled)
    blank = to_numpy(column.is_null()) if column.null_count else None
    if (days := days_of_digits(least, most, rules)) is not None:
        found = _at(ParsedDates(days), places, least, blank)
        if found.days.min() != NO_DAY:
            return found
    every = pa.chunked_array([pa.array(np.arange(least, most + 1))])
    return _at(from_numbers(every, rules, ""), places, least, blank)


_FAR = 2**62  # from which on numbers are no dates


def _at(each: ParsedDates, places: Ints, first: int, blank: Flags | None) -> ParsedDates:
    """Return the dates at some places, counted from the first, and none where they are blank."""
    days = gather(each.days, places, first)
    times = None if each.times is None else gather(each.times[:], places, first)
    bad = None if each.bad is None else gather(each.bad, places, first)
    bad = bad if blank is None else blank if bad is None else bad | blank
    if bad is None or not bad.any():
        return ParsedDates(days, times)
    reasons = "" if each.reasons is None else gather(each.reasons, places, first)
    reasons = np.where(False if blank is None else blank, "blank", reasons).astype(object)
    return ParsedDates(days, times, bad, reasons)


def from_text(column: pa.ChunkedArray, rules: DateRules, name: str) -> ParsedDates:
    """Return the days of text."""
    if pa.types.is_dictionary(column.type) and _is_mostly_distinct(column):
        column = column.cast(column.type.value_type)
    if len(column) >= _LEAST_ROWS and is_plain_text(column.type):
        parsed = _from_digits(column, rules, name)
        if parsed is not None:
            return parsed
    return _from_distinct(column, rules, name)


def _is_mostly_distinct(column: pa.ChunkedArray) -> bool:
    return 2 * sum(len(chunk.dictionary) for chunk in column.chunks) > len(column)


_LEAST_ROWS = 1000  # of digits; fewer are not worth an automaton


def _from_digits(column: pa.ChunkedArray, rules: DateRules, name: str) -> ParsedDates | None:
    """Return the days and times of texts, most of which are digits, the others read by their
    forms; None where the whole column has to be read so.
    """
    from eptaro.inputs.dates.digits import automaton_for

    automaton = automaton_for(rules)
    found = None if automaton is None else _read_texts(column, automaton)
    if automaton is None or found is None:
        return None
    stamps, minutes, known = found
    if rules.zone is None:
        known &= minutes == NO_MINUTES
    for day in {*sentinel_days(rules), *_days_in(rules.blanks, automaton)}:
        known &= days_of_stamps(stamps, DAY) != day
    rest = np.flatnonzero(~known)
    if 2 * len(rest) > len(known):
        return None
    stamps[rest], minutes[rest] = 0, NO_MINUTES
    offsets = None
    if (minutes != NO_MINUTES).any():
        offset = np.where(minutes == NO_MINUTES, NO_OFFSET, minutes.astype(np.int64))
        from eptaro.inputs.dates.zones import to_zone  # which few questions need

        days, micros = to_zone(stamps // DAY, stamps % DAY, offset, str(rules.zone))
        local = days * DAY + micros
        offsets = np.where(minutes == NO_MINUTES, 0, (local - stamps) // MINUTE + minutes)
        stamps = local
    parsed = _of_local_stamps(stamps, offsets, rules)
    if not len(rest):
        return parsed
    try:
        others = _from_distinct(pc.take(column, pc.array_of(rest)), rules, name)
    except DateError:  # which names rows of the whole column
        return None
    return None if others.grain not in (None, "day") else _with_rows(parsed, rest, others)


def _of_local_stamps(stamps: Ints, offsets: Ints | None, rules: DateRules) -> ParsedDates:
    """Return the days and times of microseconds since 1970 in local time."""
    if rules.shift:
        wide, micros = shift_day_start(stamps // DAY, stamps % DAY, DAY, rules)
        days = wide.astype(np.int32)
        times: Times | None = micros * 1000 if micros.any() else None
    else:
        days = days_of_stamps(stamps, DAY)
        times = StampTimes(stamps, DAY) if (days.astype(np.int64) * DAY != stamps).any() else None
    bad = (days < FIRST_DAY) | (days > LAST_DAY)
    if not bad.any():
        return ParsedDates(days, times, offsets=offsets, grain="day")
    days[bad] = 0
    reasons = np.where(bad, OUTSIDE, "").astype(object)
    return ParsedDates(days, times, bad, reasons, offsets, "day")


def _with_rows(parsed: ParsedDates, rows: Ints, others: ParsedDates) -> ParsedDates:
    """Return dates with other ones in some rows."""

    def put(whole: Any, part: Any, blank: Any, kind: Any) -> Any:
        if whole is None and part is None:
            return None
        made = np.full(len(parsed.days), blank, kind) if whole is None else np.array(whole)
        made[rows] = blank if part is None else part
        return made

    return ParsedDates(
        put(parsed.days, others.days, 0, np.int32),
        put(parsed.times, others.times, 0, np.int64),
        put(parsed.bad, others.bad, False, bool),
        put(parsed.reasons, others.reasons, "", object),
        put(parsed.offsets, others.offsets, 0, np.int64),
        parsed.grain,
    )


def _read_texts(column: pa.ChunkedArray, automaton: Automaton) -> TextStamps | None:
    """Return what an automaton makes of each text of a column; None without compiled loops."""
    chunks = [chunk for chunk in column.chunks if len(chunk)]
    with damaged_text():
        parts = [read_stamps(*text_bytes(chunk), automaton) for chunk in chunks]
    found = [part for part in parts if part is not None]
    if not found:
        return None
    micros, minutes, known = (np.concatenate(part) for part in zip(*found, strict=True))
    if column.null_count:
        known &= ~to_numpy(column.is_null())
    return TextStamps(micros, minutes, known)


def _days_in(blanks: Sequence[str], automaton: Automaton) -> list[int]:
    """Return the days among the values that count as blank, as an automaton reads them."""
    found = _read_texts(pa.chunked_array([pc.array_of_texts(blanks)]), automaton)
    return [] if found is None else [*map(int, found.micros[found.known] // DAY)]


def _from_distinct(column: pa.ChunkedArray, rules: DateRules, name: str) -> ParsedDates:
    """Return the days of text: each distinct text is read once."""
    whole = encode_dictionary(column)
    texts = pc.cast(whole.dictionary, pa.string())
    if rules.fiscal_periods:
        from eptaro.inputs.dates.periods import parse_periods  # which few questions need

        parsed, grain = parse_periods(texts, rules, name)
    elif rules.serials or rules.unix:
        parsed, grain = _numbers_in_text(texts, rules), None
    else:
        parsed, grain = parse_texts(texts, rules), None
    parsed = _with_blanks(texts, parsed, rules)
    if grain is None:
        parsed, grain = _of_one_grain(texts, parsed, rules, name)
    offsets = None
    if (parsed.offset != NO_OFFSET).any():
        if rules.zone is None:
            row = int(np.flatnonzero(parsed.offset != NO_OFFSET)[0])
            raise DateError(needs_zone(name, f"times with an offset ({texts[row].as_py()!r})"))
        from eptaro.inputs.dates.zones import to_zone  # which few questions need

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
        parsed = ParsedTexts(empty, empty, empty, np.full(len(places), "blank", object))
        return finish_days(parsed, blank, rules)
    read = _at(finish_days(parsed, None, rules), places, 0, blank)
    return replace(read, offsets=None if offsets is None else offsets[places], grain=grain)


def _of_one_grain(
    texts: pa.Array, parsed: ParsedTexts, rules: DateRules, name: str
) -> tuple[ParsedTexts, Grain | None]:
    """Return dates that all represent periods of one grain, and which; the others are bad.

    Raises `DateError` where there are several grains and no rule says which.
    """
    good = np.flatnonzero(parsed.reason == "")
    grains = np.zeros(len(texts), np.int8) if parsed.grain is None else parsed.grain
    grains_met = np.flatnonzero(np.bincount(grains[good])).tolist()
    if rules.grain is None:
        if len(grains_met) > 1:
            one, two = (
                f"{texts[int(good[grains[good] == code][0])].as_py()!r}, a {GRAINS[code]}"
                for code in grains_met[:2]
            )
            raise DateError(
                f"{name!r} holds both {one}, and {two}; name the period of its dates with "
                f"{spell_option('grain=', '--grain')}"
            )
        met = GRAINS[grains_met[0]] if grains_met else None
        if met == "month":
            _refuse_whole_years([texts[row].as_py() for row in good.tolist()], name)
        return parsed, met
    code_of_grain = GRAINS.index(rules.grain)
    days, reason = parsed.day.copy(), parsed.reason.copy()
    single = good[grains[good] == 0]
    if code_of_grain:
        days[single], astray = standing_for(days[single], rules.grain)
        reason[single[astray]] = reason_for(rules.grain)
    for code in grains_met:
        if code not in (0, code_of_grain):
            reason[good[grains[good] == code]] = f"is a {GRAINS[code]} (grain={rules.grain})"
    micros = parsed.micros if not code_of_grain else np.zeros_like(parsed.micros)
    return replace(parsed, day=days, reason=reason, micros=micros), rules.grain


def _refuse_whole_years(texts: Sequence[str], name: str) -> None:
    """Raise `DateError` where months could be years that span two: 2009-10 beside 2010-11."""
    matches = [re.fullmatch(r"\s*(\d{4})-(\d\d)\s*", text) for text in texts]
    if len(texts) < 2 or not all(
        match and int(match[2]) == (int(match[1]) + 1) % 100 for match in matches
    ):
        return
    months, years = setting(DateRules, "grain", "month"), setting(DateRules, "fiscal_periods", True)
    raise DateError(
        f"{name!r} holds {texts[0]!r}, {texts[1]!r} and the like, which may be months, or years "
        f"that begin in one year and end in the next; use {months} or {years}"
    )


def _with_blanks(texts: pa.Array, parsed: ParsedTexts, rules: DateRules) -> ParsedTexts:
    """Mark empty texts and declared sentinels as blank."""
    trimmed = pc.utf8_trim_whitespace(texts)
    blank = pc.is_in(trimmed, pc.array_of_texts(["", *rules.blanks])).to_numpy(zero_copy_only=False)
    good = parsed.reason == ""
    for day in sentinel_days(rules):
        blank |= good & (parsed.day == day)
    if not blank.any():
        return parsed
    return replace(parsed, reason=np.where(blank, "blank", parsed.reason).astype(object))


def _numbers_in_text(texts: pa.Array, rules: DateRules) -> ParsedTexts:
    from eptaro.inputs.dates.numbers import parse_numbers  # most texts are none

    trimmed = pc.utf8_trim_whitespace(texts)
    numeric = pc.match_substring_regex(trimmed, r"^-?[1-8]?\d{1,18}(\.\d+)?$")
    values = pc.if_else(numeric, trimmed, "0").cast(pa.float64()).to_numpy(zero_copy_only=False)
    whole_text = pc.replace_substring_regex(pc.if_else(numeric, trimmed, "0"), r"\..*$", "")
    whole = whole_text.cast(pa.int64()).to_numpy(zero_copy_only=False)
    parsed = parse_numbers(values, whole, rules)
    bad = ~numeric.to_numpy(zero_copy_only=False)
    parsed.reason[bad] = "is not a number"
    return parsed


_LIKE_A_DATE = re.compile(
    r"\s*(?:[^\W\d]{3,}\.?,? +)?"
    r"(?:\d{5,6}|\d\d[^\W\d]{3,}\d{4}|\d{1,4}(?:st|nd|rd|th)?[./\-, ]+[\w.]+[./\-, ]+\d{1,4}"
    r"|[^\W\d]+\.?[./\-, ]+\d{1,2}\w*[./\-, ]+\d{2,4}|\d{4} ?[年년]"
    r"|\d{4}-\d{2}$|(?:1[5-9]|2[01])\d\d-\d{3}(?![\d-])|\d{4}-?W\d\d-?\d"
    r"|\d{4}[./\-' ]?(?:[Qq]\d|[MmWw]\d\d)$|(?:[Qq]\d|\d[Qq])[./\-' ]?(?:\d\d){1,2}$"
    r"|[^\W\d]{3,}\.?[./\-,' ]+\d{2,4}$|\d{4}[./\-, ]+[^\W\d]{3,}\.?$)"
)


_SAMPLE = 100


def looks_like_dates(column: pa.ChunkedArray, rules: DateRules) -> bool:
    """Return whether a column of text may hold dates at all, by a sample of its values.

    It is a glance that saves the full look at columns that are plainly something else.
    """
    declared = (rules.formats, rules.serials, rules.unix, rules.grain, rules.fiscal_periods)
    if not is_text(column.type) or any(declared):
        return True
    step = max(len(column) // _SAMPLE, 1)
    sample = (column[at].as_py() for at in range(0, len(column), step))
    return any(text and _LIKE_A_DATE.match(text) for text in sample)


def read_dates(column: pa.ChunkedArray, rules: DateRules, name: str = "the column") -> ParsedDates:
    """Return the day ordinal of each row under the rules, and the grain of the column.

    Raises `DateError` where the whole column is of a kind that holds no dates, or carries
    an offset without a zone to read it in; single bad rows are marked in the outcome.
    """
    if rules.week_in is not None:
        parsed = read_dates(column, replace(rules, week_in=None), name)
        return _counted_on(parsed, rules, name)
    if rules.weeks is not None:
        parsed = read_dates(column, replace(rules, weeks=None, grain="day"), name)
        return in_periods(parsed, rules)
    if rules.fiscal_periods:
        from eptaro.inputs.dates.periods import texts_of_periods  # which few questions need

        return _from_distinct(texts_of_periods(column, name), rules, name)
    if is_text(column.type):
        return from_text(column, rules, name)
    return in_periods(_read_typed(column, rules, name), rules)


def _counted_on(parsed: ParsedDates, rules: DateRules, name: str) -> ParsedDates:
    """Return weeks by the day that they count on.

    Raises `DateError` where dates are no weeks.
    """
    assert rules.week_in is not None
    if parsed.grain is None:
        return parsed
    if parsed.grain not in WEEKS:
        option = setting(DateRules, "weeks", "ending friday")
        raise DateError(
            f"{name!r} holds {plural_of(parsed.grain)}, and "
            f"{setting(DateRules, 'week_in', rules.week_in)} goes with weeks; say which they are, "
            f"such as {option}"
        )
    days, grain = counting_days(parsed.days.astype(np.int64), parsed.grain, rules.week_in)
    return replace(parsed, days=days.astype(np.int32), grain=grain)


def in_periods(parsed: ParsedDates, rules: DateRules, name: str = "the column") -> ParsedDates:
    """Return days as the periods that they represent, where the rules give a grain."""
    if rules.week_in is not None:
        return _counted_on(in_periods(parsed, replace(rules, week_in=None)), rules, name)
    if rules.weeks is not None:
        grain, days, astray = week_of(parsed.days, rules.weeks)
        why = f"is no {rules.weeks.split()[1].title()} ({setting(DateRules, 'weeks', rules.weeks)})"
        return _in_grain(parsed, days, astray, grain, why)
    if rules.grain is None:
        return replace(parsed, grain="day")
    days, astray = standing_for(parsed.days, rules.grain)
    return _in_grain(parsed, days, astray, rules.grain, reason_for(rules.grain))


def _in_grain(
    parsed: ParsedDates, days: Ints, astray: Flags, grain: Grain, why: str
) -> ParsedDates:
    """Return the first days of periods; dates that are `astray` are bad, and `why`."""
    bad = np.zeros(len(days), bool) if parsed.bad is None else parsed.bad
    reasons = np.where(bad, "", "").astype(object) if parsed.reasons is None else parsed.reasons
    astray &= ~bad
    if not astray.any():
        return replace(parsed, days=days.astype(np.int32), grain=grain, times=None)
    reasons = np.where(astray, why, reasons).astype(object)
    read_days = np.where(astray, 0, days).astype(np.int32)
    return ParsedDates(read_days, None, bad | astray, reasons, parsed.offsets, grain)


def _read_typed(column: pa.ChunkedArray, rules: DateRules, name: str) -> ParsedDates:
    kind = column.type
    if pa.types.is_date32(kind):
        return check_typed_days(column, day_numbers(column), None, rules)
    if pa.types.is_date64(kind):
        return from_stamps(column.cast(pa.timestamp("ms")), rules)
    if pa.types.is_timestamp(kind):
        if kind.tz is None:
            return from_stamps(column, rules)
        from eptaro.inputs.dates.zones import local_micros  # which few questions need

        filled = pc.fill_null(column, pa.scalar(0, kind)) if column.null_count else column
        # A column that keeps its zone means the days of that zone, unless another is named.
        local = local_micros(one_array(filled), rules.zone or kind.tz)
        utc = to_numpy(filled.cast(pa.timestamp("us", "UTC"), safe=False).cast(pa.int64()))
        return replace(days_and_times(column, local, DAY, rules), offsets=(local - utc) // MINUTE)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return from_numbers(column, rules, name)
    if pa.types.is_null(kind):
        return check_typed_days(column, np.zeros(len(column), np.int32), None, rules)
    sample = next((show_value(value) for value in column if value.is_valid), "none")
    raise DateError(f"{name!r} holds {kind} (such as {sample}), not dates")


def settled_start(parts: Iterable[pa.ChunkedArray], rules: DateRules, name: str) -> DateRules:
    """Return the rules without `day_starts` where there is no time in any part of a column.

    What is all midnight are dates, and stay what they are; that is for the whole column to
    say, not for the batch that happens to be read.
    """
    if not rules.shift:
        return rules
    plain = replace(rules, day_starts="00:00")
    for part in parts:
        parsed = read_dates(part, plain, name)
        if parsed.times is not None and np.asarray(parsed.times).any():
            return rules
    return plain
