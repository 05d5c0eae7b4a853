"""Date text to days and times of day, all distinct texts of a column at once."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, Flags, Ints, month_starts, weekday
from eptaro.core.calendars.grain import GRAINS, Grain, first_days
from eptaro.core.calendars.levels import Names
from eptaro.errors import DateError
from eptaro.inputs.dates.forms import CURES, PLAIN, Form, forms
from eptaro.inputs.dates.periods import grain_of, mondays, month_at
from eptaro.inputs.dates.zones import offsets_by_rule
from eptaro.rules.dates import DateRules

MINUTE = 60_000_000
DAY = 1440 * MINUTE
_TABLED = 24_472 * DAY  # 2037-01-01; zone files list changes up to there, then give a rule
_TWO_DIGITS = "has a year of two digits (say with pivot= which are 2000s)"
NO_OFFSET = np.iinfo(np.int64).min


@dataclass(frozen=True, eq=False)
class Parsed:
    """What texts say: day ordinal, microseconds in the day, UTC offset in minutes (or
    `NO_OFFSET`); and why not, where `reason` is not empty.

    `grain` is the place among `GRAINS` of the period that each stands for, None for days.
    """

    day: Ints
    micros: Ints
    offset: Ints
    reason: NDArray[Any]
    grain: NDArray[np.int8] | None = None


def parse_texts(texts: pa.Array, rules: DateRules) -> Parsed:
    """Return what each text says under the rules; the first form that fits decides."""
    size = len(texts)
    day, micros = np.zeros(size, np.int64), np.zeros(size, np.int64)
    offset, reason = np.full(size, NO_OFFSET), np.full(size, "", object)
    accepted = forms(rules)
    *rest, last = dict.fromkeys(form.shown for form in accepted if form.shown)
    shown = f"{', '.join(rest)} or {last}" if rest else last
    trimmed = pc.utf8_trim_whitespace(texts)
    if accepted is PLAIN and (days := _plain_days(trimmed)) is not None:
        return Parsed(days, micros, offset, reason)
    left, grain = np.arange(size), np.zeros(size, np.int8)
    for form in accepted:
        parts = _Parts(trimmed.take(pa.array(left)), form, rules)
        hit, good = parts.matched, parts.matched & parts.exists
        rows = left[good]
        day[rows], micros[rows], offset[rows] = (
            parts.day[good],
            parts.micros[good],
            parts.offset[good],
        )
        reason[left[hit & ~good]] = "does not exist in the calendar"
        reason[left[parts.short]] = _TWO_DIGITS
        reason[left[parts.mixed]] = "has two different separators"
        reason[left[parts.astray]] = "names another weekday than that of its date"
        reason[rows] = ""
        grain[rows] = GRAINS.index(parts.grain)
        # What fits a form but does not exist may still fit a later declared format.
        left = left[~good] if rules.formats else left[~hit & ~parts.astray]
        if not len(left):
            break
    untouched = left[reason[left] == ""]
    reason[untouched] = f"is not written as {shown}"
    if accepted is PLAIN and len(untouched):
        said = trimmed.take(pa.array(untouched))
        for cure in CURES:
            fits = pc.fill_null(pc.match_substring_regex(said, cure.pattern), False)
            hit = untouched[fits.to_numpy(zero_copy_only=False)]
            reason[hit] = f"is not written as {shown} ({cure.said})"
    return Parsed(day, micros, offset, reason, grain)


def _plain_days(texts: pa.Array) -> Ints | None:
    """Return the days of texts that are all written as 2025-08-20, the quick way."""
    ends = pc.min_max(pc.utf8_length(texts)).as_py()
    if texts.null_count or ends != {"min": 10, "max": 10}:
        return None
    try:
        days = texts.cast(pa.date32()).cast(pa.int32()).to_numpy().astype(np.int64)
    except pa.ArrowInvalid:  # the forms tell which, and why
        return None
    return days if days.min() >= FIRST_DAY else None


class _Parts:
    """The named parts of texts that match one form, as numbers."""

    def __init__(self, texts: pa.Array, form: Form, rules: DateRules) -> None:
        self._locale = rules.locale
        found = pc.extract_regex(texts, form.pattern)
        self.matched: Flags = found.is_valid().to_numpy(zero_copy_only=False)
        names = [field.name for field in found.type]
        parts = {name: pc.struct_field(found, name) for name in names}
        year, month = self._number(parts, "y"), self._number(parts, "m")
        short = pc.fill_null(pc.utf8_length(parts["y"]), 4).to_numpy(zero_copy_only=False) == 2
        self.short: Flags = self.matched & short & (rules.pivot is None)
        self.mixed: Flags = self.matched & self._differ(parts, "g", "h")
        self.matched &= ~self.short & ~self.mixed
        if rules.pivot is not None:
            year = np.where(short, np.where(year <= rules.pivot, 2000 + year, 1900 + year), year)
        if "b" in parts:
            month = _month_numbers(parts["b"], rules.locale)
            self.matched &= month > 0
        number = self._number(parts, "d") if "d" in parts else np.ones(len(year), np.int64)
        if not {"m", "b", "q"} & {*parts}:
            month = np.ones(len(year), np.int64)
        if "q" in parts:
            month = self._number(parts, "q") * 3 - 2
        if "F" in parts:
            month = month_at(self._fraction(parts, "F") / 1e6)
        inside = (year >= 1) & (year <= 9999) & (month >= 1) & (month <= 12)
        months = np.where(inside, (year - 1970) * 12 + month - 1, 0)
        start, room = month_starts(months), month_starts(months + 1) - month_starts(months)
        self.exists: Flags = inside & (number >= 1) & (number <= room)
        self.day: Ints = start + number - 1
        self.grain: Grain = grain_of({*parts}, rules)
        if "k" in parts:
            self.day, self.exists = mondays(year, self._number(parts, "k"))
        elif self.grain != "day":
            self.day = first_days(self.day, self.grain)
        self.astray: Flags = self._is_astray(parts)
        self.matched &= ~self.astray
        hour = self._hours(parts)
        minute, second = self._number(parts, "M"), self._number(parts, "S")
        self.exists &= (hour < 24) & (minute < 60) & (second < 60)
        self.micros: Ints = (
            (hour * 60 + minute) * MINUTE + second * 1_000_000 + self._fraction(parts)
        )
        self.offset: Ints = self._offset(parts)

    def _is_astray(self, parts: dict[str, pa.Array]) -> Flags:
        """Return where a weekday is named that is not that of the date; no word for one is no
        match.
        """
        if "w" not in parts:
            return np.zeros(len(self.matched), bool)
        words = pc.utf8_lower(pc.fill_null(parts["w"], ""))
        known = _weekday_words(self._locale)
        named: Ints = np.array([known.get(word, -1) for word in words.to_pylist()], np.int64)
        there = pc.not_equal(words, "").to_numpy(zero_copy_only=False)
        self.matched &= ~there | (named >= 0)
        found: Flags = self.matched & self.exists & there & (named != weekday(self.day))
        return found

    def _differ(self, parts: dict[str, pa.Array], one: str, two: str) -> Flags:
        """Return where two parts are not the same but for spaces, where the form has them."""
        if one not in parts:
            return np.zeros(len(self.matched), bool)
        first, second = (pc.utf8_trim_whitespace(parts[name]) for name in (one, two))
        differ = pc.fill_null(pc.not_equal(first, second), False)
        found: Flags = differ.to_numpy(zero_copy_only=False)
        return found

    def _number(self, parts: dict[str, pa.Array], name: str) -> Ints:
        if name not in parts:
            return np.zeros(len(self.matched), np.int64)
        text = pc.if_else(pc.equal(parts[name], ""), None, parts[name])
        numbers: Ints = pc.fill_null(text.cast(pa.int64()), 0).to_numpy(zero_copy_only=False)
        return numbers

    def _hours(self, parts: dict[str, pa.Array]) -> Ints:
        hour = self._number(parts, "H")
        if "p" not in parts:
            return hour
        half = pc.fill_null(pc.utf8_lower(pc.utf8_slice_codeunits(parts["p"], 0, 1)), "")
        after = pc.equal(half, "p").to_numpy(zero_copy_only=False)
        given = pc.not_equal(half, "").to_numpy(zero_copy_only=False)
        self.exists &= ~given | ((hour >= 1) & (hour <= 12))
        return np.where(given, hour % 12 + 12 * after, hour)

    def _fraction(self, parts: dict[str, pa.Array], name: str = "f") -> Ints:
        if name not in parts:
            return np.zeros(len(self.matched), np.int64)
        text = pc.utf8_slice_codeunits(pc.utf8_rpad(pc.fill_null(parts[name], ""), 6, "0"), 0, 6)
        numbers: Ints = text.cast(pa.int64()).to_numpy(zero_copy_only=False)
        return numbers

    def _offset(self, parts: dict[str, pa.Array]) -> Ints:
        if "z" not in parts:
            return np.full(len(self.matched), NO_OFFSET)
        coded = pc.fill_null(parts["z"], "").dictionary_encode()  # there are few different ones
        minutes = np.array([_minutes(text) for text in coded.dictionary.to_pylist()], np.int64)
        found: Ints = minutes[coded.indices.to_numpy(zero_copy_only=False)]
        return found


def _minutes(text: str | None) -> int:
    if not text:
        return int(NO_OFFSET)
    if text.upper() in ("Z", "UTC", "GMT"):
        return 0
    sign = -1 if text[0] == "-" else 1
    return sign * (int(text[1:3]) * 60 + int(text[-2:]))


def _month_numbers(words: pa.Array, locale: str) -> Ints:
    """Return 1 to 12 for month names, long or short, in English or the locale; else 0."""
    known = pa.array([*_month_words(locale)])
    numbers = np.array([*_month_words(locale).values(), 0])
    place = pc.index_in(pc.utf8_lower(pc.fill_null(words, "")), known)
    found: Ints = numbers[pc.fill_null(place, -1).to_numpy(zero_copy_only=False)]
    return found


def _names(locale: str) -> list[Names]:
    """Return the names of a language, and those of English."""
    if locale == "en":
        return [Names()]
    from eptaro.inputs.locales import locale_names

    return [locale_names(locale), Names()]


def _weekday_words(locale: str) -> dict[str, int]:
    found: dict[str, int] = {}
    for one in _names(locale):
        for words in (one.weekdays, one.weekdays_short):
            for number, word in enumerate(words):
                found.setdefault(re.sub(r"\.$", "", word.lower()), number)
    return found


def _month_words(locale: str) -> dict[str, int]:
    found: dict[str, int] = {}
    for one in _names(locale):
        for words in (one.months, one.months_short, *one.months_in_dates):
            for number, word in enumerate(words, 1):
                found.setdefault(re.sub(r"\.$", "", word.lower()), number)
    return found


def to_zone(day: Ints, micros: Ints, offset: Ints, zone: str) -> tuple[Ints, Ints]:
    """Return day and time in a zone of what was given with a UTC offset; the rest stays."""
    utc = day * DAY + micros - np.where(offset == NO_OFFSET, 0, offset) * MINUTE
    local = local_micros(pa.array(utc, pa.timestamp("us", "UTC")), zone)
    moved = np.where(offset == NO_OFFSET, day * DAY + micros, local)
    return moved // DAY, moved % DAY


def local_micros(stamps: pa.Array, zone: str) -> Ints:
    """Return timestamps (with any zone) as microseconds of a zone's local time."""
    try:
        local = pc.local_timestamp(stamps.cast(pa.timestamp("us", zone), safe=False))
    except (pa.ArrowInvalid, pa.ArrowKeyError):
        raise DateError(
            f"zone={zone!r} is not a time zone; use a name such as Europe/Lisbon"
        ) from None
    micros: Ints = local.cast(pa.int64()).to_numpy(zero_copy_only=False)
    utc: Ints = (
        stamps.cast(pa.timestamp("us", "UTC"), safe=False)
        .cast(pa.int64())
        .to_numpy(zero_copy_only=False)
    )
    late = utc >= _TABLED
    if late.any():
        micros = np.where(late, utc, micros)
        micros[late] += offsets_by_rule(utc[late], zone)
    return micros
