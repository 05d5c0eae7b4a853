"""What each column of a table seems to hold: dates, numbers to add up or average, groups, keys."""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import pairwise
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.calendars.grain import CivilGrain, Grain, first_days, last_days, plural_of
from eptaro.core.calendars.levels import month_number
from eptaro.engines.figures import FISCAL_YEARS, KEYS, LEVEL, kind_of_figures, words_in
from eptaro.engines.findings import Findings
from eptaro.errors import DateError, EptaroError, MeasureError, count_noun
from eptaro.inputs.columns.codes import MOST_NAMED
from eptaro.inputs.columns.numbers import (
    BLANKS,
    UndecidedError,
    UnsureError,
    infer_numbers,
    is_word,
    read_written,
)
from eptaro.inputs.datecolumn import PIVOT, Evidence, infer_order
from eptaro.inputs.dates.clock import holds_clock
from eptaro.inputs.dates.reading import ParsedDates, is_text, looks_like_dates, read_dates
from eptaro.inputs.dates.texts import FISCAL, standing_for
from eptaro.option import setting
from eptaro.record import Record, record
from eptaro.rules import DateRules, NumberRules


def decided_rules(
    column: pa.ChunkedArray, rules: DateRules, name: str, findings: Findings
) -> tuple[DateRules, list[str]]:
    """Return rules that read most of the column, and the options that say so."""
    is_decided = rules.order or rules.formats or rules.serials or rules.unix or rules.fiscal_periods
    if rules.order != "infer" and (is_decided or not is_text(column.type)):
        return rules, [f"--order {rules.order}"] if rules.order else []
    if rules.order != "infer" and _share(column, rules) >= 0.5:
        return rules, []
    try:
        decided, evidence = infer_order(column, replace(rules, order="infer"), name)
    except DateError as error:
        orders_seen = Evidence.of(column)
        days, months = len(orders_seen.day_first), len(orders_seen.month_first)
        if min(days, months) * 20 > max(days, months) or not days + months:
            findings.add("order of dates", "undecided", detail=str(error))
            return replace(rules, order=None), ["--order dmy|mdy"]
        decided = replace(rules, order="dmy" if days > months else "mdy")
        evidence = f"{days:,} distinct values can only be day first, {months:,} only month first"
    if _share(column, decided) > _share(column, replace(rules, order=None)):
        findings.add("order of dates", decided.order or "", detail=evidence)
        return decided, [f"--order {decided.order}"]
    return replace(rules, order=None), []


def readable_share(column: pa.ChunkedArray, rules: DateRules, *, of_none: float) -> float:
    """Return the share of filled rows that the rules can read; `of_none` where none is filled."""
    try:
        parsed = read_dates(column, rules)
    except DateError:
        return 0.0
    if parsed.bad is None or parsed.reasons is None:
        return 1.0
    filled = parsed.reasons != "blank"
    return float(1 - parsed.bad[filled].mean()) if filled.any() else of_none


def _share(column: pa.ChunkedArray, rules: DateRules) -> float:
    """Return the readable share, judged by the first rows."""
    return readable_share(column.slice(0, 20_000), rules, of_none=1.0)


ENOUGH = 0.95  # of the filled values that must be readable as dates
_DIGITS = 3  # in the texts of a column that may be dates
_SAMPLE = 20_000  # rows whose numbers are looked at
_MOST_GROUPS = 60  # distinct values of a column worth grouping by

Role = Literal["dates", "sum", "mean", "groups", "key", "flag", "text", "other"]


@record
class ColumnProfile(Record):
    """A column, what it seems to hold, and why; the rules that read its dates, its numbers as such,
    and how they are written where they need rules.
    """

    name: str
    kind: Role
    why: str
    blanks: int
    dates: DateRules | None = None
    grain: Grain = "day"
    numbers: pa.ChunkedArray | None = None
    written: str = ""
    values: frozenset[str] = frozenset()  # of texts, unless there are many

    @property
    def reason(self) -> str:
        """Why it seems to hold that, and how its numbers are written."""
        return f"{self.why} ({self.written})" if self.written else self.why


_IN_FISCAL_YEARS = "use --fiscal-periods, with their calendar, such as --year-starts 04-01"
_NUMBER_TYPES = (pa.types.is_floating, pa.types.is_decimal, pa.types.is_integer)


def look_at(column: pa.ChunkedArray, name: str, rules: DateRules, decimal: str) -> ColumnProfile:
    """Return what one column seems to hold."""
    column = column.cast(pa.string()) if is_text(column.type) else column
    blanks, words = column.null_count, words_in(name)
    dated = _dates(column, name, rules)
    if dated is not None:
        dates, grain = dated
        why = _describe_rules(dates, grain)
        if grain != "day" and words & FISCAL_YEARS and not dates.fiscal_periods:
            why += f"; if they are fiscal ones, {_IN_FISCAL_YEARS}"
        return ColumnProfile(name, "dates", why, blanks, dates, grain)
    if blanks == len(column):
        return ColumnProfile(name, "other", "no value", blanks)
    written, percents = "", False
    if is_text(column.type):
        if words & KEYS:
            return ColumnProfile(name, "key", "identifier (by its name): not summed", blanks)
        texts = pc.unique(column)
        if code := _code_among(texts.to_pylist()):
            return ColumnProfile(
                name, "key", f"identifier (codes such as {code!r}): not summed", blanks
            )
        if pc.all(pc.match_substring_regex(texts.drop_null(), FISCAL)).as_py():
            why = f"periods of fiscal years; as dates, {_IN_FISCAL_YEARS}"
            return ColumnProfile(name, "other", why, blanks)
        if _are_labels(texts.to_pylist()):
            return _texts(column, name, blanks, rules)
        try:
            number_rules, written = infer_numbers(texts, name, decimal)
            percents = number_rules.percent
        except (UndecidedError, UnsureError) as error:
            why = str(error).removeprefix(f"{name!r} ")
            return ColumnProfile(name, "other", f"numbers, which {why}", blanks)
        except MeasureError:
            if why := _but_for_words(texts, name, decimal):
                return ColumnProfile(name, "other", why, blanks)
            return _texts(column, name, blanks, rules)
        numbers, _, _ = read_written(column.combine_chunks(), number_rules)
        if numbers.null_count == len(column):
            return ColumnProfile(name, "other", "only words that mean blank", len(column))
        column = pa.chunked_array([numbers])
    elif not any(is_one(column.type) for is_one in _NUMBER_TYPES):
        return ColumnProfile(name, "other", f"holds {column.type}", blanks)
    kind, why = kind_of_figures(column, name, words)
    if percents and kind == "sum":
        kind, why = "mean", LEVEL
    return ColumnProfile(name, kind, why, column.null_count, numbers=column, written=written)


_MOST_WORDS = 2  # among numbers
_FEWEST_NUMBERS = 10


def _but_for_words(texts: pa.Array, name: str, decimal: str) -> str:
    """Return that distinct texts are numbers but for a word or two, with what would read these as
    blank; or nothing.
    """
    every = [text.strip() for text in texts.drop_null().to_pylist()]
    words = [text for text in dict.fromkeys(every) if is_word(text) and text not in BLANKS]
    if not 1 <= len(words) <= _MOST_WORDS:
        return ""
    others = [text for text in every if text not in words]
    if len(others) < _FEWEST_NUMBERS:
        return ""
    try:
        infer_numbers(pa.array(others), name, decimal)
    except MeasureError:
        return ""
    cures = " ".join(setting(NumberRules, "blanks", word) for word in words)
    shown = " and ".join(map(repr, words))
    return f"numbers, but for {shown}; if that means no value, use {cures}"


_CODE = re.compile(r"[A-Za-z]{0,4}[-_]?\d+")
_PADDED = re.compile(r"[A-Za-z]{0,4}[-_]?0\d+")


def _code_among(texts: list[str | None]) -> str:
    """Return a code such as `C0958` where all texts are written like it; else nothing.

    Amounts are not padded with zeros; codes of one width are.
    """
    words = [text.strip() for text in texts if text and text.strip()]
    padded = next((word for word in words if _PADDED.fullmatch(word)), "")
    alike = padded and len({len(word) for word in words}) == 1
    return padded if alike and all(map(_CODE.fullmatch, words)) else ""


_LABEL = re.compile(r"(?![A-Z]{3}(?![^\W\d]))[^\W\d_]{3,}[ _-]?\d+")  # not a code of money


def _are_labels(texts: list[str | None]) -> bool:
    """Return whether all texts are a word and a number behind it, such as `berth 4`."""
    words = [text.strip() for text in texts if text and text.strip() not in ("", *BLANKS)]
    return bool(words) and all(map(_LABEL.fullmatch, words))


def _texts(column: pa.ChunkedArray, name: str, blanks: int, rules: DateRules) -> ColumnProfile:
    if reason := _cure_of_dates(column, rules):
        return ColumnProfile(name, "other", f"dates? {reason}", blanks)
    if {*re.split(r"[^a-z0-9]+", name.lower())} & {"month", "months"} and _are_months(column):
        return ColumnProfile(name, "key", "part of a date: not summed", blanks)
    if holds_clock(column):
        return ColumnProfile(name, "other", "times of day", blanks)
    count = pc.count_distinct(column).as_py()
    few = 1 < count <= min(_MOST_GROUPS, max(len(column) // 2, 2))
    values = pc.unique(column.drop_null()).to_pylist() if count <= MOST_NAMED else []
    return ColumnProfile(
        name,
        "groups" if few else "text",
        count_noun(count, "distinct value"),
        blanks,
        values=frozenset(map(str, values)),
    )


def _are_months(column: pa.ChunkedArray) -> bool:
    """Return whether all texts are the names of months."""
    texts = pc.unique(column.slice(0, _SAMPLE).cast(pa.string())).drop_null().to_pylist()
    return bool(texts) and all(month_number(text) for text in texts)


def _cure_of_dates(column: pa.ChunkedArray, rules: DateRules) -> str:
    """Return why texts that look like dates are none, with what would read them; or nothing."""
    sample = column.drop_null().slice(0, 50)
    digits = pc.count_substring_regex(sample.cast(pa.string()), r"\d")
    if not len(sample) or pc.mean(digits).as_py() < _DIGITS:
        return ""
    try:
        parsed = read_dates(sample, rules)
    except DateError as error:
        return str(error)
    if parsed.reasons is None:
        return ""
    words = [row for row, reason in enumerate(parsed.reasons.tolist()) if "(" in reason]
    if len(words) * 2 < len(sample):
        return ""
    return f"{sample[words[0]].as_py()!r} {parsed.reasons[words[0]]}"


def _describe_rules(rules: DateRules, grain: Grain) -> str:
    usual = DateRules()
    settings = {part: getattr(rules, part) for part in _TOLD}
    own = [f"{part}={value}" for part, value in settings.items() if value != getattr(usual, part)]
    words = f"read with {', '.join(own)}" if own else "read as written"
    return words if grain == "day" else f"{plural_of(grain)}, {words}"


_TOLD = ("order", "grain", "unix", "serials", "zone", "pivot", "locale", "bad_dates")


def _dates(
    column: pa.ChunkedArray, name: str, base_rules: DateRules
) -> tuple[DateRules, Grain] | None:
    """Return rules that read nearly all of a column as dates, and their grain; or None."""
    kind = column.type
    if pa.types.is_boolean(kind):
        return None
    if is_text(kind) and (dated := _without_words(column)) is not None:
        found = _dates(dated, name, base_rules)
        return found and (replace(found[0], bad_dates="reject"), found[1])
    if base_rules.fiscal_periods:  # or dates as they are, in other columns
        in_days = _dates(column, name, replace(base_rules, fiscal_periods=False))
        found = None if pa.types.is_temporal(kind) else _reads_enough(column, base_rules)
        return found or in_days
    if pa.types.is_temporal(kind) and not pa.types.is_duration(kind):
        return _reads_enough(column, replace(base_rules, zone=base_rules.zone or _zone(column)))
    words = words_in(name)
    for rules in [base_rules, *_candidate_rules(column, words, base_rules)]:
        if not _may_be(column, rules):
            continue
        decided, _ = decided_rules(column, rules, name, Findings())
        rules_and_grain = _reads_enough(column, decided)
        if rules_and_grain is not None:
            return rules_and_grain
    return None


def _without_words(column: pa.ChunkedArray) -> pa.ChunkedArray | None:
    """Return texts without those that hold no digit, if these are a word or two among dates, such
    as `Total` or `unknown`; None for others.
    """
    wordy = pc.invert(pc.match_substring_regex(column, r"\d|^\s*$"))
    words, filled = column.filter(wordy), len(column) - column.null_count
    if not 0 < len(words) < filled / 2 or pc.count_distinct(words).as_py() > _MOST_WORDS:
        return None
    return pc.if_else(wordy, pa.scalar(None, column.type), column)


def _zone(column: pa.ChunkedArray) -> str | None:
    tz: str | None = getattr(column.type, "tz", None)
    return tz


def _may_be(column: pa.ChunkedArray, rules: DateRules) -> bool:
    kind = column.type
    if is_text(kind):
        return looks_like_dates(column, rules)
    is_decided = rules.serials or rules.unix or rules.grain or rules.order
    if pa.types.is_floating(kind):
        return bool(is_decided)
    if not pa.types.is_integer(kind):
        return False
    if is_decided:
        return True
    ends = pc.min_max(column).as_py()
    return bool(1000_01_01 <= ends["min"] <= ends["max"] <= 9999_12_31)


_WITH_OFFSET = re.compile(r"(\d:\d\d(:[\d.,]+)?|T\d{4,6}) ?(Z|UTC|GMT|[+-]\d\d(:?\d\d)?)$")
_YEAR_OF_TWO = (
    r"\d{1,2}\D\d{1,2}\D\d{2}(\D.*)?|\D+\d+,? \d{2}"
    r"|\d{1,2}[./\- ]?[^\W\d]{3,}\.?[./\-, ]?\d{2}( \d.*)?"
)


def _candidate_rules(column: pa.ChunkedArray, words: set[str], rules: DateRules) -> list[DateRules]:
    """Return rules to try on values that are no dates without one, by name and size."""
    if rules.order or rules.formats or rules.serials or rules.unix or rules.grain:
        return []
    sample = column.drop_null().slice(0, 200).cast(pa.string()).to_pylist()
    texts = [text.strip() for text in sample if text.strip()]
    candidates: list[DateRules] = []

    def all_are(pattern: str) -> bool:
        return bool(texts) and all(re.fullmatch(pattern, text) for text in texts)

    if words & {"year", "yr", "jahr", "fy"} and all_are(r"(1[5-9]|2[01])\d\d(\.0)?"):
        candidates.append(replace(rules, grain="year"))
    if words & {"year", "yr", "time", "date", "decimal"} and (grain := _grain_of_years(texts)):
        candidates.append(replace(rules, grain=grain))
    if all_are(r"(19|20)\d\d(0[1-9]|1[0-2])") or all_are(r"(0?[1-9]|1[0-2])[./-](19|20)\d\d"):
        candidates.append(replace(rules, grain="month"))
    if all_are(r"(19|20)\d\d/(0?[1-9]|1[0-2])"):
        candidates.append(replace(rules, grain="month"))
    if words & {"time", "timestamp", "ts", "unix", "epoch", "created", "date", "at"}:
        if all_are(r"1\d{9}(\.0)?"):
            candidates.append(replace(rules, unix="s", zone=rules.zone or "UTC"))
        if all_are(r"1\d{12}"):
            candidates.append(replace(rules, unix="ms", zone=rules.zone or "UTC"))
    if words & {"year", "yr"} and rules.pivot is None and all_are(r"'?\d\d(\.0)?"):
        candidates.append(replace(rules, grain="year", pivot=PIVOT))
    if words & {"date", "dt", "day"} and all_are(r"\d{5,8}(\.0)?"):
        short = any(len(text.removesuffix(".0")) < _DIGITS_OF_DAY for text in texts)
        pivot = PIVOT if short and rules.pivot is None else rules.pivot
        candidates.append(replace(rules, order="infer", pivot=pivot))
    if words & {"date", "day"} and all_are(r"[2-5]\d{4}(\.\d+)?"):
        candidates.append(replace(rules, serials="1900"))
    if rules.zone is None and any(_WITH_OFFSET.search(text) for text in texts):
        candidates.append(replace(rules, zone="UTC"))
    if rules.pivot is None and all_are(_YEAR_OF_TWO):
        candidates.append(replace(rules, order="infer", pivot=PIVOT))
    if rules.pivot is None and (
        all_are(r"[Qq]\d\D?\d\d|\d[Qq]\D?\d\d") or _are_short_months(texts)
    ):
        candidates.append(replace(rules, pivot=PIVOT))
    return candidates


def _are_short_months(texts: list[str]) -> bool:
    """Return whether texts are months with years of two digits, rather than days of a month: the
    numbers behind the names are few, too large for a day, or after an apostrophe.

    >>> _are_short_months(["Jan-25", "Feb-25"]), _are_short_months(["Jan-24", "Jan-25"])
    (True, False)
    """
    parts = [re.fullmatch(r"([^\W\d]{3,})\.?[./\-,' ]+(\d\d)", text) for text in texts]
    months = {part[1].lower() for part in parts if part}
    years = {part[2] for part in parts if part}
    are_years = len(years) < len(months) or max(years, default="") > "31" or "'" in "".join(texts)
    return bool(texts) and all(parts) and are_years


def _grain_of_years(texts: list[str]) -> CivilGrain | None:
    """Return the grain of decimal years, whose fractions are twelfths or quarters, or of years that
    follow each other; None for other numbers.

    >>> _grain_of_years(["1949", "1949.0833333333", "1949.17"]), _grain_of_years(["1947.01"])
    ('month', None)
    """
    if not all(re.fullmatch(r"(1[5-9]|2[01])\d\d(\.\d{1,17})?", text) for text in texts):
        return None
    years = [float(text) for text in texts]
    twelfths = [year % 1 * 12 for year in years]
    if not any(twelfths):
        follow = all(after - before == 1 for before, after in pairwise(years))
        return "year" if follow and len(years) >= _FEWEST else None
    if any(abs(part - round(part)) > _ROUNDED for part in twelfths):
        return None
    return "month" if any(round(part) % 3 for part in twelfths) else "quarter"


_DIGITS_OF_DAY = 7  # of a year with four: 5032025
_ROUNDED = 0.06  # of a month, where years are written with two decimals


def _reads_enough(column: pa.ChunkedArray, rules: DateRules) -> tuple[DateRules, Grain] | None:
    try:
        if readable_share(column.slice(0, _GLANCE), rules, of_none=1.0) < ENOUGH:
            return None
        parsed = read_dates(column, rules)
    except EptaroError:
        return None
    if parsed.bad is None or not parsed.bad.any():
        return _coarsest_rules(rules, parsed)
    filled = ~parsed.bad if parsed.reasons is None else parsed.reasons != "blank"
    if not filled.any() or parsed.bad[filled].mean() > 1 - ENOUGH:
        return None
    return _coarsest_rules(replace(rules, bad_dates="reject"), parsed)


_FEWEST = 3  # periods that must begin on the dates of a column before it is taken for these


def _coarsest_rules(rules: DateRules, parsed: ParsedDates) -> tuple[DateRules, Grain]:
    """Return the rules with the widest period that every date begins: a column in which all are
    the first of a month is of months, a quarter's of quarters.
    """
    if rules.grain is not None or (parsed.grain or "day") != "day" or parsed.times is not None:
        return rules, parsed.grain or "day"
    days = np.unique(parsed.days if parsed.bad is None else parsed.days[~parsed.bad])
    if len(days) < _FEWEST:
        return rules, "day"
    wide: tuple[CivilGrain, ...] = ("year", "quarter", "month")
    for grain in wide:
        begin = (days == first_days(days, grain)).any()
        if begin and (days == last_days(days, grain)).any():
            continue  # first and last days of periods: they are days
        if not standing_for(days, grain)[1].any():
            return replace(rules, grain=grain), grain
    return rules, "day"


_GLANCE = 2_000  # rows: what is plainly no date is determined from these
