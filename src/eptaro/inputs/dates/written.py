"""Dates that are written out as text, or as numbers in text."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.calendars.grain import GRAINS, Grain
from eptaro.errors import DateError
from eptaro.inputs.dates.numbers import parse_numbers
from eptaro.inputs.dates.outcome import Read, finished, needs_zone, sentinel_days
from eptaro.inputs.dates.periods import reason_for, standing_for
from eptaro.inputs.dates.texts import DAY, MINUTE, NO_OFFSET, Parsed, parse_texts, to_zone
from eptaro.inputs.files.encoded import encoded
from eptaro.rules.dates import DateRules


def from_text(column: pa.ChunkedArray, rules: DateRules, name: str) -> Read:
    """Return the days of text: each distinct text is read once."""
    whole = encoded(column)
    texts = whole.dictionary.cast(pa.string())
    if rules.serials or rules.unix:
        parsed = _numbers_in_text(texts, rules)
    else:
        parsed = parse_texts(texts, rules)
    parsed = _with_blanks(texts, parsed, rules)
    parsed, grain = _of_one_grain(texts, parsed, rules, name)
    offsets = None
    if (parsed.offset != NO_OFFSET).any():
        if rules.zone is None:
            row = int(np.flatnonzero(parsed.offset != NO_OFFSET)[0])
            raise DateError(needs_zone(name, f"times with an offset ({texts[row].as_py()!r})"))
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
        return finished(parsed, blank, rules)
    each = finished(parsed, None, rules)
    times = None if each.times is None else each.times[places]
    bad = None if each.bad is None else each.bad[places]
    reasons = None if each.reasons is None else each.reasons[places]
    if blank is not None:
        bad = blank if bad is None else bad | blank
        reasons = np.where(blank, "blank", "" if reasons is None else reasons).astype(object)
    moved = None if offsets is None else offsets[places]
    return Read(each.days[places], times, bad, reasons, moved, grain)


def _of_one_grain(
    texts: pa.Array, parsed: Parsed, rules: DateRules, name: str
) -> tuple[Parsed, Grain | None]:
    """Return dates that all stand for periods of one grain, and which; the others are bad.

    Raises `DateError` where there are several grains and no rule says which.
    """
    good = np.flatnonzero(parsed.reason == "")
    grains = np.zeros(len(texts), np.int8) if parsed.grain is None else parsed.grain
    found = np.unique(grains[good]).tolist()
    if rules.grain is None:
        if len(found) > 1:
            one, two = (
                f"{texts[int(good[grains[good] == code][0])].as_py()!r}, a {GRAINS[code]}"
                for code in found[:2]
            )
            raise DateError(
                f"{name!r} holds both {one}, and {two}; say with grain= what its dates stand for"
            )
        return parsed, GRAINS[found[0]] if found else None
    wanted = GRAINS.index(rules.grain)
    days, reason = parsed.day.copy(), parsed.reason.copy()
    single = good[grains[good] == 0]
    if wanted:
        days[single], astray = standing_for(days[single], rules.grain)
        reason[single[astray]] = reason_for(rules.grain)
    for code in found:
        if code not in (0, wanted):
            reason[good[grains[good] == code]] = f"is a {GRAINS[code]} (grain={rules.grain})"
    micros = parsed.micros if not wanted else np.zeros_like(parsed.micros)
    return replace(parsed, day=days, reason=reason, micros=micros), rules.grain


def _with_blanks(texts: pa.Array, parsed: Parsed, rules: DateRules) -> Parsed:
    """Mark empty texts and declared sentinels as blank."""
    trimmed = pc.utf8_trim_whitespace(texts)
    blank = pc.is_in(trimmed, pa.array(["", *rules.blanks])).to_numpy(zero_copy_only=False)
    good = parsed.reason == ""
    for day in sentinel_days(rules):
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
