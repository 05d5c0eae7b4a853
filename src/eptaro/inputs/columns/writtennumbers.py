"""Numbers in text, read under rules, all texts of a column at once."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

import pyarrow as pa
import pyarrow.compute as pc

from eptaro.rules.numbers import NumberRules

_SPACES = "[ \u00a0\u202f]"  # plain, fixed, narrow
_MOST_DECIMALS = 18
_WHOLE = r"^-?\d{1,18}$"


@dataclass(frozen=True)
class Pattern:
    """Number rules as regular expressions over trimmed text."""

    rules: NumberRules

    @property
    def decimal(self) -> str:
        """The decimal mark."""
        return self.rules.decimal or "."

    @cached_property
    def _stripped(self) -> str:
        words = sorted(self.rules.strip, key=len, reverse=True)
        return "|".join(re.escape(word.strip()) for word in words)

    @cached_property
    def _thousands(self) -> str:
        mark = self.rules.thousands
        if mark is None:
            return ""
        return {" ": _SPACES, "'": "['’]"}.get(mark, re.escape(mark))

    @cached_property
    def plain(self) -> str:
        """The pattern of what is left when all marks but the decimal one are gone."""
        mark = re.escape(self.decimal)
        return rf"^[-+]?(\d+{mark}?\d*|{mark}\d+)([eE][-+]?\d+)?$"

    def bare(self, texts: pa.Array) -> tuple[pa.Array, pa.Array]:
        """Return texts as plain numbers with a decimal point, and which of them are percents.

        What is not a number under the rules comes out as something else that is none.
        """
        rules, found = self.rules, pc.replace_substring(texts, "−", "-")
        if self._stripped:
            word = self._stripped
            found = pc.replace_substring_regex(found, rf"^([-+(]*)\s*(?:{word})\s*", r"\1")
            found = pc.replace_substring_regex(found, rf"\s*(?:{word})\s*([-)%]*)$", r"\1")
        if rules.trailing_minus:  # it may follow the sign of percent, or come before it
            found = pc.replace_substring_regex(found, r"^([^-+()\s][^-]*?)\s*-$", r"-\1")
        percents = pc.match_substring_regex(found, r"%\s*\)?$")
        if rules.percent:
            found = pc.replace_substring_regex(found, r"\s*%\s*(\)?)$", r"\1")
        if rules.brackets:
            found = pc.replace_substring_regex(found, r"^\(\s*([^-+()\s][^()]*?)\s*\)$", r"-\1")
        if rules.trailing_minus:
            found = pc.replace_substring_regex(found, r"^([^-+()\s][^-]*?)\s*-$", r"-\1")
        if self._thousands:
            mark, point = self._thousands, re.escape(self.decimal)
            # Groups of three alone: what is written otherwise is no number with this mark.
            grouped = pc.match_substring_regex(
                found, rf"^[-+]?\d{{1,3}}({mark}\d{{3}})+({point}\d*)?$"
            )
            found = pc.if_else(grouped, pc.replace_substring_regex(found, mark, ""), found)
        fits = pc.match_substring_regex(found, self.plain)
        found = pc.if_else(fits, found, "?")
        return pc.replace_substring(found, self.decimal, "."), percents


def read_written(texts: pa.Array, rules: NumberRules) -> tuple[pa.Array, pa.Array, pa.Array]:
    """Return texts as numbers; which were turned into blank by a word; and which are none.

    Numbers are whole or decimal, exact, where that has room, else floats. Blank and empty
    texts are blank.
    """
    trimmed = pc.utf8_trim_whitespace(texts)
    trimmed = pc.if_else(pc.equal(trimmed, ""), None, trimmed)
    worded = pc.fill_null(pc.is_in(trimmed, pa.array(list(rules.blanks), pa.string())), False)
    said = pc.if_else(worded, None, trimmed) if rules.blanks else trimmed
    if pc.all(pc.match_substring_regex(said, _WHOLE)).as_py() is not False:  # the quick way
        return said.cast(pa.int64()), worded, pc.fill_null(pc.equal(said, "?"), False)
    bare, percents = Pattern(rules).bare(said)
    wrong = pc.fill_null(pc.equal(bare, "?"), False)
    # Arrow would read them as others: decimals have 38 digits.
    digits = pc.utf8_length(pc.replace_substring_regex(bare, r"^[-+]?0*|\..*$", ""))
    plain = pc.invert(pc.match_substring_regex(bare, "[eE]"))
    wrong = pc.or_(wrong, pc.fill_null(pc.and_(plain, pc.greater(digits, 38)), False))
    kept = pc.if_else(wrong, None, bare)
    return _numbers(kept, percents, any_percent=rules.percent), worded, wrong


def _numbers(texts: pa.Array, percents: pa.Array, *, any_percent: bool) -> pa.Array:
    """Return plain numbers, of which some are hundredths, as exact as they can be."""
    fraction = pc.replace_substring_regex(texts, r"^[^.]*\.?", "")
    places = pc.max(pc.utf8_length(fraction)).as_py() or 0
    places = 2 if places == 1 else places  # money has two decimals, not one
    hundredths = any_percent and bool(pc.any(percents).as_py())
    scale = places + (2 if hundredths else 0)
    exponents = bool(pc.any(pc.match_substring_regex(texts, "[eE]")).as_py())
    longest = pc.max(pc.utf8_length(pc.replace_substring_regex(texts, r"^[-+]?0*|\.", ""))).as_py()
    if not exponents and scale <= _MOST_DECIMALS and (longest or 0) <= 38:
        try:
            exact = texts.cast(pa.decimal128(34 if hundredths else 38, places))
        except pa.ArrowInvalid:  # more digits than a decimal holds
            exact = None
        if exact is not None:
            if hundredths:
                hundredth = pa.scalar("0.01").cast(pa.decimal128(2, 2))
                parts = pc.multiply(exact, hundredth)
                exact = pc.if_else(percents, parts, exact.cast(parts.type))
            return exact if scale else _whole(exact)
    floats = texts.cast(pa.float64())
    return pc.if_else(percents, pc.divide(floats, 100.0), floats) if hundredths else floats


def _whole(exact: pa.Array) -> pa.Array:
    try:
        return exact.cast(pa.int64())
    except pa.ArrowInvalid:  # over 64 bits: the reader of numbers says so
        return exact
