"""The forms in which dates are written, and reading texts by them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, Days, Flags, Ints, mondays, month_starts, weekday
from eptaro.core.calendars.grain import GRAINS, WEEKS, Grain, first_days, last_days
from eptaro.core.calendars.levels import MONTH_WORDS, WEEKDAYS, Names
from eptaro.errors import DateError
from eptaro.inputs import arrow_compute as pc
from eptaro.option import setting
from eptaro.record import Record, record
from eptaro.rules import DateRules, Weeks

_GRAIN_OF_PART: dict[str, Grain] = {
    "d": "day",
    "u": "day",
    "o": "day",
    "q": "quarter",
    "k": "week",
    "m": "month",
}
_ROUNDED = 0.05  # of a month: what is lost where decimal years have two digits


def grain_of(parts: set[str], rules: DateRules) -> Grain:
    """Return the grain of what a form with these parts matches; see `forms`."""
    if "F" in parts:
        return rules.grain or "month"
    present = {"m" if part == "b" else part for part in parts}
    return next((grain for part, grain in _GRAIN_OF_PART.items() if part in present), "year")


def month_at(part: NDArray[np.float64]) -> Ints:
    """Return the month, from 1, that holds a part of the year.

    >>> month_at(np.array([0, 0.083, 0.5, 0.99])).tolist()
    [1, 2, 7, 12]
    """
    months: Ints = np.minimum(np.floor(part * 12 + _ROUNDED), 11).astype(np.int64) + 1
    return months


def standing_for(days: Days, grain: Grain) -> tuple[Ints, Flags]:
    """Return the first days of the periods that days represent, and which represent none.

    A day represents a period as its first or its last one. The last of a week represents
    none, as a Sunday begins the week elsewhere.
    """
    first = first_days(days, grain)
    stands = first == days
    if grain != "week":
        stands |= last_days(days, grain) == days
    return first, ~stands


def week_of(days: Days, weeks: Weeks) -> tuple[Grain, Ints, Flags]:
    """Return the weeks that days end or start, their first days, and which days are of another
    weekday.

    >>> grain, first, astray = week_of(np.array([0, 1]), "ending thursday")  # 1 January 1970
    >>> grain, first.tolist(), astray.tolist()
    ('week from Friday', [-6, -5], [False, True])
    """
    side, _, day = weeks.partition(" ")
    weekday_number = WEEKDAYS.index(day)
    ends = side == "ending"
    wide: Ints = days.astype(np.int64)
    return WEEKS[(weekday_number + ends) % 7], wide - 6 * ends, weekday(wide) != weekday_number


def reason_for(grain: Grain) -> str:
    """Return why a day represents no period."""
    if grain == "week":
        return "is not a Monday, the first day of a week (grain=week)"
    return f"is neither the first nor the last day of a {grain} (grain={grain})"


_OFFSET = r"(?P<z>[Zz]|UTC|GMT|[+-]\d{2}(?::?\d{2})?)"
_TIME = (
    r"(?:[T ]+(?P<H>\d{1,2}):(?P<M>\d{2})(?::(?P<S>\d{2})(?:[.,](?P<f>\d{1,9}))?)?"
    rf" ?(?P<p>[AaPp]\.?[Mm]\.?)? ?{_OFFSET}?)?"
)
# All letters of Unicode take milliseconds to compile, where most columns are read in less: what is
# not of ASCII counts as one. No word with other marks is a month or a weekday.
_LETTER = r"[A-Za-z\x{80}-\x{10FFFF}]"
_WEEKDAY = rf"(?P<w>{_LETTER}+)\.?"
_WORD = rf"(?P<b>{_LETTER}+)\.?"
_DIRECTIVES = {
    "%Y": r"(?P<y>\d{4})",
    "%y": r"(?P<y>\d{2})",
    "%m": r"(?P<m>\d{1,2})",
    "%d": r"(?P<d>\d{1,2})",
    "%b": r"(?P<b>[\p{L}\p{M}]+)\.?",
    "%B": r"(?P<b>[\p{L}\p{M}]+)\.?",
    "%a": r"(?P<w>[\p{L}\p{M}]+)\.?",
    "%A": r"(?P<w>[\p{L}\p{M}]+)\.?",
    "%H": r"(?P<H>\d{1,2})",
    "%I": r"(?P<H>\d{1,2})",
    "%M": r"(?P<M>\d{2})",
    "%S": r"(?P<S>\d{2})",
    "%f": r"(?P<f>\d{1,9})",
    "%p": r"(?P<p>[AaPp]\.?[Mm]\.?)",
    "%z": _OFFSET,
    "%%": "%",
}

ISO = rf"^(?P<y>\d{{4}})-(?P<m>\d{{2}})-(?P<d>\d{{2}}){_TIME}$"
_BASIC = (  # the basic format of ISO 8601, as calendar files have it
    r"^(?P<y>\d{4})(?P<m>\d{2})(?P<d>\d{2})T(?P<H>\d{2})(?P<M>\d{2})(?:(?P<S>\d{2}))?"
    rf"{_OFFSET}?$"
)
COMPACT = rf"^(?P<y>\d{{4}})(?P<m>[01]\d)(?P<d>\d{{2}}){_TIME}$"
_WHOLE_DATE = re.compile(
    r"((1[89]|20)\d\d(0[1-9]|1[0-2])(0[1-9]|[12]\d|3[01])|\d{4}(?P<a>[-./])\d{1,2}(?P=a)\d{1,2}"
    r"|\d{1,2}(?P<b>[-./])\d{1,2}(?P=b)\d{4})(?!\d)"
)
THREE_NUMBERS = rf"^(?P<a>\d{{1,2}})[./\- ](?P<b>\d{{1,2}})[./\- ](?P<y>\d{{4}}|\d{{2}}){_TIME}$"


@record
class DatePattern(Record):
    """A pattern and how people write what it matches, empty where that need not be stated."""

    pattern: str
    shown: str


def _order_pattern(order: str, *, worded: bool) -> str:
    """Return the pattern of an order, with the month as a number or as a word, which a weekday may
    are before.

    Between numbers is the same separator twice, `g` and `h`.
    """
    # A word shows where the numbers end: `05JAN2025`, `5 de enero de 2025`.
    gap = r"[./\-, ]*(?:del? +)?" if worded and order == "dmy" else r"[./\-, ]+"
    day = r"(?P<d>\d{1,2})(?:st|nd|rd|th)?"
    month = _WORD if worded else r"(?P<m>\d{1,2})"
    parts = {"y": r"(?P<y>\d{4}|\d{2})", "m": month, "d": day}
    first, second, third = (parts[letter] for letter in order)
    if worded:
        return rf"^(?:{_WEEKDAY},? +)?{first}{gap}{second}{gap}{third}{_TIME}$"
    return rf"^{first}(?P<g>{gap}){second}(?P<h>{gap}){third}{_TIME}$"


_SEPARATOR = r"[./\- ]"
YEAR_FIRST = (
    rf"^(?P<y>\d{{4}})(?P<g>{_SEPARATOR})(?P<m>\d{{1,2}})"
    rf"(?P<h>{_SEPARATOR})(?P<d>\d{{1,2}}){_TIME}$"
)
# The day of a week and of a year, as ISO 8601 writes them; 4711-012 is a code.
_WEEK_DATE = rf"^(?P<y>\d{{4}})-?W(?P<k>\d{{2}})-?(?P<u>\d){_TIME}$"
_ORDINAL_DATE = rf"^(?P<y>(?:1[5-9]|2[01])\d\d)-(?P<o>\d{{3}}){_TIME}$"
# As in `2025年8月20日`, `2025년 8월 20일` and `2025. 8. 20.`.
_EAST_ASIAN = (
    r"^(?P<y>\d{4}) ?[年년.] ?(?P<m>\d{1,2}) ?[月월.] ?(?P<d>\d{1,2}) ?[日일.]" rf"{_TIME}$"
)

_DAYS = (
    DatePattern(ISO, "2025-08-20"),
    DatePattern(COMPACT, "20250820"),
    DatePattern(_BASIC, ""),
    # After a year of four digits nobody writes the day before the month.
    DatePattern(YEAR_FIRST, ""),
    DatePattern(_EAST_ASIAN, ""),
    DatePattern(_WEEK_DATE, ""),
    DatePattern(_ORDINAL_DATE, ""),
    # A month that is a word cannot be taken for a day, whatever the order.
    *(
        DatePattern(_order_pattern(order, worded=True), "20 Aug 2025")
        for order in ("dmy", "mdy", "ymd")
    ),
)


_PERIOD_GAP = r"[./\-' ]?"
_YEAR = r"(?P<y>\d{4})"
_YEAR_OR_TWO = r"(?P<y>\d{4}|\d{2})"
PERIOD_FORMS = (
    DatePattern(r"^(?P<y>\d{4})-(?P<m>[01]\d)$", ""),  # 2020-21 is a year that spans two
    *(
        DatePattern(pattern, "")
        for pattern in (
            rf"^(?P<b>{_LETTER}{{3,}})\.?[./\-,' ]+{_YEAR_OR_TWO}$",
            rf"^(?P<y>\d{{4}})[./\-, ]+(?P<b>{_LETTER}{{3,}})\.?$",
        )
    ),
    DatePattern(rf"^{_YEAR}{_PERIOD_GAP}[Qq](?P<q>\d)$", ""),
    DatePattern(rf"^[Qq](?P<q>\d){_PERIOD_GAP}{_YEAR_OR_TWO}$", ""),
    DatePattern(rf"^(?P<q>\d)[Qq]{_PERIOD_GAP}{_YEAR_OR_TWO}$", ""),
    DatePattern(rf"^{_YEAR}{_PERIOD_GAP}[Mm](?P<m>\d{{2}})$", ""),
    DatePattern(rf"^{_YEAR}[./\- ]?[Ww](?P<k>\d{{2}})$", ""),
    DatePattern(rf"^{_YEAR} ?[年년] ?(?P<m>\d{{1,2}}) ?[月월]$", ""),
)
PLAIN_FORMS = (*_DAYS, *PERIOD_FORMS)
# What could be something else unless the grain is given.
_DECIMAL_YEAR = DatePattern(r"^(?P<y>\d{4})\.(?P<F>\d{1,17})$", "2025.58")
_WHOLE_YEAR = DatePattern(r"^(?P<y>\d{4})(?P<F>)$", "")  # beside others with a fraction
_SAID: dict[Grain, tuple[DatePattern, ...]] = {
    "day": (),
    "week": (DatePattern(r"^(?P<y>\d{4})(?P<k>\d{2})$", "202534"),),
    "month": (
        DatePattern(r"^(?P<y>\d{4})[/ ]?(?P<m>\d{2})$", "202508"),
        DatePattern(r"^(?P<y>\d{4})[/ ](?P<m>\d)$", ""),
        DatePattern(r"^(?P<m>\d{1,2})[./\- ](?P<y>\d{4})$", "08/2025"),
        _DECIMAL_YEAR,
    ),
    "quarter": (_DECIMAL_YEAR,),
    "year": (
        DatePattern(r"^(?P<y>\d{4})(?:\.0+)?$", "2025"),
        DatePattern(r"^'?(?P<y>\d{1,2})(?:\.0+)?$", ""),
    ),
}


class Hint(NamedTuple):
    """A pattern of texts that a rule of dates would read, and the options that set the rule."""

    pattern: str
    question: str
    option: str
    values: tuple[str | bool | None, ...]
    also: str = ""

    def __str__(self) -> str:
        """Return what to use, as the caller writes options."""
        ways = [setting(DateRules, self.option, value) for value in self.values]
        also = f", with {setting(DateRules, self.also)}" if self.also else ""
        return f"{self.question}use {' or '.join(ways)}{also}"


_TWO, _GAP = r"\d{1,2}", r" ?[./\- ] ?"
# A year that is called a fiscal one, or the number of a period: `FY25-Q1`, `P03 2025`.
FISCAL = r"(?i)^(?:FY ?(?:\d{4}|\d{2})\b.*|P\d{1,2}\W.*\d|\d{4}\W? ?P\d{1,2})$"
# By the last digits: the year behind is that after the one before.
_NEXT_YEARS = "|".join(rf"{n} ?[/–-] ?(?:\d\d)?\d{(n + 1) % 10}" for n in range(10))
HINTS = (
    Hint(FISCAL, "a period of a fiscal year? ", "fiscal_periods", (True,)),
    Hint(rf"^\d{{3}}(?:{_NEXT_YEARS})$", "a fiscal year? ", "fiscal_periods", (True,)),
    Hint(
        rf"^{_TWO}{_GAP}{_TWO}{_GAP}\d{{4}}\b",
        "does the day or the month come first? ",
        "order",
        ("dmy", "mdy"),
    ),
    Hint(
        rf"^{_TWO}{_GAP}{_TWO}{_GAP}{_TWO}\b",
        "a year of two digits? ",
        "order",
        ("dmy", "mdy", "ymd"),
        also="pivot",
    ),
    Hint(
        r"^[0-3]\d[0-3]\d(?:19|20)\d\d\b",
        "does the day or the month come first? ",
        "order",
        ("dmy", "mdy"),
    ),
    Hint(r"^\d{6}$", "a year of two digits? ", "order", ("dmy", "mdy", "ymd"), also="pivot"),
    Hint(rf"^\d{{4}}{_GAP}{_TWO}{_GAP}{_TWO}([T ]+\d+:\d\d\b.*)?$", "", "order", ("ymd",)),
    Hint(r"^\d{4}$", "a year? ", "grain", ("year",)),
    Hint(r"^(1[89]|2[01])\d{2}([/ ]?(0[1-9]|1[0-2])|[/ ][1-9])$", "a month? ", "grain", ("month",)),
    Hint(r"^(0?[1-9]|1[0-2])[./\- ]\d{4}$", "a month? ", "grain", ("month",)),
    Hint(r"^\d{4}\.\d+$", "a year with a fraction? ", "grain", ("month", "quarter", "year")),
    Hint(r"^\d{5}(\.\d+)?$", "a serial number of days? ", "serials", ("1900", "1904")),
    Hint(r"^\d{9,10}$", "seconds since 1970? ", "unix", ("s",)),
    Hint(r"^\d{12,13}$", "milliseconds since 1970? ", "unix", ("ms",)),
    Hint(
        rf"^\d{{1,2}}[./\-, ]+{_LETTER}+[./\-, ]+\d{{4}}\b",
        "a month in another language? ",
        "locale",
        (None,),
    ),
)


def forms(rules: DateRules) -> Sequence[DatePattern]:
    """Return the forms that the rules accept, in the order to try them."""
    if rules.formats:
        return [DatePattern(_compile_pattern(text), text) for text in rules.formats]
    if rules.order in (None, "infer"):
        own = _SAID[rules.grain or "day"]
        return [*own, *PLAIN_FORMS] if own else PLAIN_FORMS
    order = str(rules.order)
    digits = {"y": r"(?P<y>\d{4}|\d{2})", "m": r"(?P<m>\d{2})", "d": r"(?P<d>\d{2})"}
    compact = "".join(digits[letter] for letter in order)
    compact = compact.replace(r"\d{2})", r"\d{1,2})", 1)  # numbers lose a zero at the front
    example = {"ymd": "2025/08/20", "dmy": "20.08.2025", "mdy": "08/20/2025"}[order]
    patterns = [
        DatePattern(_order_pattern(order, worded=worded), example) for worded in (False, True)
    ]
    own_patterns = _SAID[rules.grain or "day"]
    return [
        *own_patterns,
        *patterns,
        DatePattern(rf"^{compact}{_TIME}$", ""),
        *(PLAIN_FORMS if order == "ymd" else (PLAIN_FORMS[0], *PLAIN_FORMS[2:])),
    ]


def _compile_pattern(text: str) -> str:
    pattern = ""
    parts = [part for part in re.split(r"(%.)", text) if part]
    for before, part, after in zip(["", *parts], parts, [*parts[1:], ""], strict=False):
        if part.startswith("%") and len(part) == 2:
            if part not in _DIRECTIVES:
                accepted = " ".join(_DIRECTIVES)
                raise DateError(f"format {text!r}: {part} is not known; use {accepted}")
            directive = _DIRECTIVES[part]
            if r"\d" in _DIRECTIVES.get(before, "") + _DIRECTIVES.get(after, ""):
                directive = directive.replace(r"\d{1,2}", r"\d{2}")  # else 1122025 is two dates
            pattern += directive
        else:
            pattern += re.escape(part)
    names = re.findall(r"\?P<(\w)>", pattern)
    if len(set(names)) != len(names):
        raise DateError(f"format {text!r} names one part of the date twice")
    has_month = bool({"m", "b"} & {*names})
    if "y" not in names or ("d" in names and not has_month):
        raise DateError(
            f"format {text!r} needs a year, a month and a day, as in %d.%m.%Y, or a month as in "
            f"%m/%Y, or a year as in %Y"
        )
    return f"^{pattern}$"


MINUTE = 60_000_000
DAY = 1440 * MINUTE
NO_OFFSET = np.iinfo(np.int64).min
OUTSIDE = "lies outside the years 1 to 9999"


@record
class ParsedTexts:
    """What texts say: day ordinal, microseconds in the day, UTC offset in minutes (or
    `NO_OFFSET`); and why not, where `reason` is not empty.

    `grain` is the place among `GRAINS` of the period that each represents, None for days.
    """

    day: Ints
    micros: Ints
    offset: Ints
    reason: NDArray[Any]
    grain: NDArray[np.int8] | None = None


def is_whole_date(text: str) -> bool:
    """Return whether a text can only be a day, with a year of four digits, as 20250820 and
    20.08.2025 can.

    >>> [*map(is_whole_date, ("2025-08-20 10:30", "20250820", "8/20/2025", "2025", "20258888"))]
    [True, True, True, False, False]
    """
    return _WHOLE_DATE.match(text.strip()) is not None


def parse_texts(texts: pa.Array, rules: DateRules) -> ParsedTexts:
    """Return what each text says under the rules; the first form that fits decides."""
    size = len(texts)
    day, micros = np.zeros(size, np.int64), np.zeros(size, np.int64)
    offset, reason = np.full(size, NO_OFFSET), np.full(size, "", object)
    accepted = forms(rules)
    *rest, last = dict.fromkeys(form.shown for form in accepted if form.shown)
    forms_accepted = f"{', '.join(rest)} or {last}" if rest else last
    trimmed = pc.utf8_trim_whitespace(texts)
    if _DECIMAL_YEAR in accepted:
        fractions = pc.match_substring_regex(trimmed, _DECIMAL_YEAR.pattern)
        accepted = [*accepted, _WHOLE_YEAR] if pc.any(fractions).as_py() else accepted
    if accepted is PLAIN_FORMS and (days := _plain_days(trimmed)) is not None:
        return ParsedTexts(days, micros, offset, reason)
    unread, grain = np.arange(size), np.zeros(size, np.int8)
    for form in accepted:
        matches = pc.extract_regex(pc.take(trimmed, pc.array_of(unread)), form.pattern)
        if matches.null_count == len(matches):
            continue
        parts = _Parts(matches, rules)
        hit, good = parts.matched, parts.matched & parts.exists
        rows = unread[good]
        day[rows], micros[rows], offset[rows] = (
            parts.day[good],
            parts.micros[good],
            parts.offset[good],
        )
        reason[unread[hit & ~good]] = "does not exist in the calendar"
        pivot = setting(DateRules, "pivot")
        reason[unread[parts.short]] = f"has a year of two digits; use {pivot}"
        reason[unread[parts.mixed]] = "has two different separators"
        reason[unread[parts.astray]] = "names another weekday than that of its date"
        reason[rows] = ""
        grain[rows] = GRAINS.index(parts.grain)
        # What fits a form but does not exist may still fit a later declared format.
        unread = unread[~good] if rules.formats else unread[~hit & ~parts.astray]
        if not len(unread):
            break
    untouched = unread[reason[unread] == ""]
    reason[untouched] = f"is not written as {forms_accepted}"
    if accepted is PLAIN_FORMS and len(untouched):
        untouched_texts = pc.take(trimmed, pc.array_of(untouched))
        for hint in HINTS:
            if hint.option == "grain" and rules.grain is not None:
                continue
            fits = pc.fill_null(pc.match_substring_regex(untouched_texts, hint.pattern), False)
            hit = untouched[fits.to_numpy(zero_copy_only=False)]
            reason[hit] = f"is not written as {forms_accepted} ({hint})"
    return ParsedTexts(day, micros, offset, reason, grain)


def _plain_days(texts: pa.Array) -> Ints | None:
    """Return the days of texts that are all written as 2025-08-20, the quick way."""
    ends = pc.min_max(pc.utf8_length(texts)).as_py()
    if texts.null_count or ends != {"min": 10, "max": 10}:
        return None
    try:
        days = pc.cast(pc.cast(texts, pa.date32()), pa.int32()).to_numpy().astype(np.int64)
    except pa.ArrowInvalid:  # the forms say which, and why
        return None
    return days if days.min() >= FIRST_DAY else None


class _Parts:
    """The named parts of texts that match one form, as numbers."""

    def __init__(self, matches: pa.StructArray, rules: DateRules) -> None:
        self._locale = rules.locale
        self.matched: Flags = pc.is_valid(matches).to_numpy(zero_copy_only=False)
        names = [field.name for field in matches.type]
        parts = {name: pc.struct_field(matches, name) for name in names}
        year, month = self._number(parts, "y"), self._number(parts, "m")
        short = pc.fill_null(pc.utf8_length(parts["y"]), 4).to_numpy(zero_copy_only=False) <= 2
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
        if "o" in parts:
            number = self._number(parts, "o")
            self.day, room = start + number - 1, month_starts(months + 12) - start
            self.exists = inside & (number >= 1) & (number <= room)
        elif "k" in parts:
            self.day, self.exists = mondays(year, self._number(parts, "k"))
            if "u" in parts:
                number = self._number(parts, "u")
                self.day += number - 1
                self.exists &= (number >= 1) & (number <= 7)
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
        numbers = _weekday_words(self._locale)
        named_weekday: Ints = np.array(
            [numbers.get(word, -1) for word in words.to_pylist()], np.int64
        )
        there = pc.not_equal(words, "").to_numpy(zero_copy_only=False)
        self.matched &= ~there | (named_weekday >= 0)
        flags: Flags = self.matched & self.exists & there & (named_weekday != weekday(self.day))
        return flags

    def _differ(self, parts: dict[str, pa.Array], one: str, two: str) -> Flags:
        """Return where two parts are not the same but for spaces, where the form has them."""
        if one not in parts:
            return np.zeros(len(self.matched), bool)
        first, second = (pc.utf8_trim_whitespace(parts[name]) for name in (one, two))
        differ = pc.fill_null(pc.not_equal(first, second), False)
        flags: Flags = differ.to_numpy(zero_copy_only=False)
        return flags

    def _number(self, parts: dict[str, pa.Array], name: str) -> Ints:
        if name not in parts:
            return np.zeros(len(self.matched), np.int64)
        text = pc.if_else(pc.equal(parts[name], ""), None, parts[name])
        numbers: Ints = pc.fill_null(pc.cast(text, pa.int64()), 0).to_numpy(zero_copy_only=False)
        return numbers

    def _hours(self, parts: dict[str, pa.Array]) -> Ints:
        hour = self._number(parts, "H")
        if "p" not in parts:
            return hour
        half = pc.fill_null(pc.utf8_lower(pc.utf8_slice_codeunits(parts["p"], 0, 1)), "")
        after = pc.equal(half, "p").to_numpy(zero_copy_only=False)
        has_half = pc.not_equal(half, "").to_numpy(zero_copy_only=False)
        self.exists &= ~has_half | ((hour >= 1) & (hour <= 12))
        return np.where(has_half, hour % 12 + 12 * after, hour)

    def _fraction(self, parts: dict[str, pa.Array], name: str = "f") -> Ints:
        if name not in parts:
            return np.zeros(len(self.matched), np.int64)
        text = pc.utf8_slice_codeunits(pc.utf8_rpad(pc.fill_null(parts[name], ""), 6, "0"), 0, 6)
        numbers: Ints = pc.cast(text, pa.int64()).to_numpy(zero_copy_only=False)
        return numbers

    def _offset(self, parts: dict[str, pa.Array]) -> Ints:
        if "z" not in parts:
            return np.full(len(self.matched), NO_OFFSET)
        coded = pc.dictionary_encode(pc.fill_null(parts["z"], ""))  # there are few different ones
        minutes = np.array([_minutes(text) for text in coded.dictionary.to_pylist()], np.int64)
        offsets: Ints = minutes[coded.indices.to_numpy(zero_copy_only=False)]
        return offsets


def _minutes(text: str | None) -> int:
    if not text:
        return int(NO_OFFSET)
    if text.upper() in ("Z", "UTC", "GMT"):
        return 0
    sign = -1 if text[0] == "-" else 1
    return sign * (int(text[1:3]) * 60 + int(text[3:].lstrip(":") or 0))


def _month_numbers(words: pa.Array, locale: str) -> Ints:
    """Return 1 to 12 for month names, long or short, in English or the locale; else 0."""
    month_words = pa.array([*_month_words(locale)])
    numbers = np.array([*_month_words(locale).values(), 0])
    place = pc.index_in(pc.utf8_lower(pc.fill_null(words, "")), month_words)
    months: Ints = numbers[pc.fill_null(place, -1).to_numpy(zero_copy_only=False)]
    return months


def month_in_digits(words: Sequence[str], locale: str) -> list[str]:
    """Return the names of months in a language as their numbers, other words as they are.

    >>> month_in_digits(["avril", "APR", "?"], "fr")
    ['4', '4', '?']
    """
    numbers = _month_words(locale)
    return [str(numbers.get(word.strip().rstrip(".").lower(), word)) for word in words]


def _names(locale: str) -> list[Names]:
    """Return the names of a language, and those of English."""
    if locale == "en":
        return [Names()]
    from eptaro.inputs.locales import locale_names

    return [locale_names(locale), Names()]


def _weekday_words(locale: str) -> dict[str, int]:
    numbers_by_word: dict[str, int] = {}
    for names in _names(locale):
        for words in (names.weekdays, names.weekdays_short):
            for number, word in enumerate(words):
                numbers_by_word.setdefault(re.sub(r"\.$", "", word.lower()), number)
    return numbers_by_word


def _month_words(locale: str) -> dict[str, int]:
    numbers_by_word: dict[str, int] = {}
    for names in _names(locale):
        for words in (names.months, names.months_short, *names.months_in_dates):
            for number, word in enumerate(words, 1):
                numbers_by_word.setdefault(re.sub(r"\.$", "", word.lower()), number)
    return MONTH_WORDS | numbers_by_word
