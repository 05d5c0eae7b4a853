"""Numbers written as text, and the rules that a whole column suggests for them."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import Field, fields, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels.reading import TextDecimals, read_decimals
from eptaro.errors import MeasureError, shell_word, spell_option
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.columns.digits import SPACES, marks_alike
from eptaro.inputs.files.chunks import damaged_text, first_rows, plain, text_bytes
from eptaro.option import flag, setting
from eptaro.record import Record, record
from eptaro.rules import Mark, NumberRules

_SPACE = rf"\s{SPACES}"
_GAP = f"[{_SPACE}]*"
_TRAILING = rf"^([^-+(){_SPACE}][^-]*?){_GAP}-$"
_PERCENT_SIGN = rf"{_GAP}%{_GAP}(\)?)$"
_BRACKETS = rf"^\({_GAP}([^-+(){_SPACE}][^()]*?){_GAP}\)$"
_MOST_DECIMALS = 18
_LARGEST = np.iinfo(np.int64).max
_WHOLE = r"^-?\d{1,18}$"


@record
class Pattern(Record):
    """Number rules as regular expressions over trimmed text."""

    rules: NumberRules

    @property
    def decimal(self) -> str:
        """The decimal mark."""
        return self.rules.decimal or "."

    @cached_property
    def _words_to_strip(self) -> str:
        words = sorted(self.rules.strip, key=len, reverse=True)
        return "|".join(re.escape(word.strip()) for word in words)

    @cached_property
    def _thousands(self) -> str:
        mark = self.rules.thousands
        return "" if mark is None else f"[{marks_alike(mark)}]"

    @cached_property
    def plain(self) -> str:
        """The pattern of what is left when all marks but the decimal one are gone."""
        mark = re.escape(self.decimal)
        return rf"^[-+]?(\d+{mark}?\d*|{mark}\d+)([eE][-+]?\d+)?$"

    def bare(self, texts: pa.Array) -> tuple[pa.Array, pa.Array]:
        """Return texts as plain numbers with a decimal point, and which of them are percents.

        What is not a number under the rules comes out as something else that is none.
        """
        rules, bare = self.rules, pc.replace_substring(texts, "−", "-")
        if self._words_to_strip:
            word = self._words_to_strip
            bare = pc.replace_substring_regex(bare, rf"^([-+(]*){_GAP}(?:{word}){_GAP}", r"\1")
            bare = pc.replace_substring_regex(bare, rf"{_GAP}(?:{word}){_GAP}([-)%]*)$", r"\1")
        if rules.trailing_minus:  # it may follow the sign of percent, or come before it
            bare = pc.replace_substring_regex(bare, _TRAILING, r"-\1")
        percents = pc.match_substring_regex(bare, _PERCENT_SIGN)
        if rules.percent:
            bare = pc.replace_substring_regex(bare, _PERCENT_SIGN, r"\1")
        if rules.brackets:
            bare = pc.replace_substring_regex(bare, _BRACKETS, r"-\1")
        if rules.trailing_minus:
            bare = pc.replace_substring_regex(bare, _TRAILING, r"-\1")
        if self._thousands:
            mark, point = self._thousands, re.escape(self.decimal)
            # Groups of three, and in India of two before them: what is written otherwise is no
            # number with this mark.
            groups = rf"\d{{1,3}}({mark}\d{{3}})+"
            groups += r"|\d{1,2}(,\d{2})+,\d{3}" if self.rules.thousands == "," else ""
            grouped = pc.match_substring_regex(bare, rf"^[-+]?({groups})({point}\d*)?$")
            bare = pc.if_else(grouped, pc.replace_substring_regex(bare, mark, ""), bare)
        fits = pc.match_substring_regex(bare, self.plain)
        bare = pc.if_else(fits, bare, "?")
        return pc.replace_substring(bare, self.decimal, "."), percents


def read_written(texts: pa.Array, rules: NumberRules) -> tuple[pa.Array, pa.Array, pa.Array]:
    """Return texts as numbers; which were turned into blank by a word; and which are none.

    Numbers are whole or decimal, exact, where that has room, else floats. Blank and empty
    texts are blank.
    """
    if len(texts) >= _LEAST_ROWS:
        found = _read_digits(texts, rules)
        if found is not None:
            return found
    return _read_by_patterns(texts, rules)


_LEAST_ROWS = 1 << 12  # fewer are not worth an automaton


def _read_digits(texts: pa.Array, rules: NumberRules) -> tuple[pa.Array, pa.Array, pa.Array] | None:
    """Return what `read_written` does of numbers of which an automaton reads all that are no
    blanks; None for others.
    """
    from eptaro.inputs.columns.digits import number_automaton

    automaton = number_automaton(rules)
    if automaton is None:
        return None
    with damaged_text():
        found = read_decimals(*text_bytes(texts), automaton)
    if found is None:
        return None
    known = found.known & plain(texts.is_valid())
    if any(map(str.isdigit, "".join(rules.blanks))):  # what may be a number, and counts as blank
        known &= ~plain(_blanked(pc.utf8_trim_whitespace(texts), rules))
    rest = np.flatnonzero(~known)
    wrong, worded = np.zeros((2, len(known)), bool)
    if len(rest):
        others, worded_others, wrong_others = _read_by_patterns(
            pc.take(texts, pc.array_of(rest)), rules
        )
        if others.null_count < len(others):
            return None
        worded[rest], wrong[rest] = plain(worded_others), plain(wrong_others)
    numbers = _exact_numbers(found, known)
    return None if numbers is None else (numbers, pa.array(worded), pa.array(wrong))


def _exact_numbers(found: TextDecimals, known: Flags) -> pa.Array | None:
    """Return whole or decimal numbers of 64 bits, blank where they are not known; None where these
    do not hold them.
    """
    percents = found.percents & known
    places = np.where(known, found.places, 0).astype(np.int64)
    scale = _money_places(int(places.max(initial=0))) + 2 * bool(percents.any())
    if scale > _MOST_DECIMALS:
        return None
    digits, zeros = np.where(known, found.digits, 0), scale - places - 2 * percents
    factors = 10 ** np.arange(scale + 1)
    if (np.abs(digits) > (_LARGEST // factors)[zeros]).any():
        return None
    units: Ints = digits * factors[zeros]
    valid = None if known.all() else pa.py_buffer(np.packbits(known, bitorder="little"))
    words = np.stack([units, units >> 63], axis=1) if scale else units
    kind = pa.decimal128(38, scale) if scale else pa.int64()
    return pa.Array.from_buffers(kind, len(units), [valid, pa.py_buffer(words)])


def _money_places(places: int) -> int:
    return 2 if places == 1 else places  # money has two decimals, not one


def _blanked(trimmed: pa.Array, rules: NumberRules) -> pa.Array:
    """Return which texts mean by a word that there is no number."""
    return pc.fill_null(pc.is_in(trimmed, pc.array_of_texts(rules.blanks)), False)


def _read_by_patterns(texts: pa.Array, rules: NumberRules) -> tuple[pa.Array, pa.Array, pa.Array]:
    """Return what `read_written` does, whatever the texts are."""
    trimmed = pc.utf8_trim_whitespace(texts)
    trimmed = pc.if_else(pc.equal(trimmed, ""), None, trimmed)
    worded = _blanked(trimmed, rules)
    unblanked = pc.if_else(worded, None, trimmed) if rules.blanks else trimmed
    if pc.all(pc.match_substring_regex(unblanked, _WHOLE)).as_py() is not False:  # the quick way
        return unblanked.cast(pa.int64()), worded, pc.fill_null(pc.equal(unblanked, "?"), False)
    bare, percents = Pattern(rules).bare(unblanked)
    wrong = pc.fill_null(pc.equal(bare, "?"), False)
    # Arrow would read them as others: decimals have 38 digits.
    digits = pc.utf8_length(pc.replace_substring_regex(bare, r"^[-+]?0*|\..*$", ""))
    plain = pc.invert(pc.match_substring_regex(bare, "[eE]"))
    wrong = pc.or_(wrong, pc.fill_null(pc.and_(plain, pc.greater(digits, 38)), False))
    readable = pc.if_else(wrong, None, bare)
    return _numbers(readable, percents, any_percent=rules.percent), worded, wrong


def _numbers(texts: pa.Array, percents: pa.Array, *, any_percent: bool) -> pa.Array:
    """Return plain numbers, of which some are hundredths, as exact as they can be."""
    fraction = pc.replace_substring_regex(texts, r"^[^.]*\.?", "")
    places = _money_places(pc.max(pc.utf8_length(fraction)).as_py() or 0)
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
            return exact if scale else _whole_if_exact(exact)
    floats = texts.cast(pa.float64())
    return pc.if_else(percents, pc.divide(floats, 100.0), floats) if hundredths else floats


def _whole_if_exact(exact: pa.Array) -> pa.Array:
    try:
        return exact.cast(pa.int64())
    except pa.ArrowInvalid:  # over 64 bits: the reader of numbers says so
        return exact


BLANKS = (
    *("NA", "N/A", "n/a", "na", "N.A.", "n.a.", "#N/A", "NULL", "Null", "null", "None", "none"),
    *("NaN", "nan", "-", "--", "–", "—", "."),
)
_CODES = frozenset(("EUR", "USD", "GBP", "CHF", "JPY", "CNY", "INR", "AUD", "CAD", "NZD"))
_CODES_TOO = frozenset(("SEK", "NOK", "DKK", "PLN", "CZK", "HUF", "BRL", "MXN", "ZAR", "SGD"))
MONEY = _CODES | _CODES_TOO
_MARKS: tuple[tuple[Literal[".", ","], Mark | None], ...] = (
    *((".", None), (",", None), (".", ","), (",", "."), (".", " "), (",", " ")),
    *((".", "'"), (",", "'")),
)
_SHOWN = 2
_LONG = re.compile(r"[-+]?\d{39,}")
_PERCENT = re.compile(r"%\s*[-)]?$")


def infer_numbers(texts: pa.Array, name: str, decimal: str = ".") -> tuple[NumberRules, str]:
    """Return the rules that read all of a column's texts, and the evidence in words.

    `decimal` is the mark that is usual where the column comes from. Raises `MeasureError`
    where the texts do not decide, or hold what is not a number under any rule, or amounts in
    several currencies, which do not add up.
    """
    distinct = one_of_each_shape(texts).to_pylist()
    words = [word for word in distinct if word in BLANKS or _is_no_money(word)]
    texts_given = [text for text in distinct if text and text not in words]
    usual = NumberRules(decimal="," if decimal == "," else ".", blanks=words)
    if _can_read(texts_given, usual):
        return usual, _describe_rules(words, [])
    rules = replace(
        usual,
        strip=_find_affixes(texts_given, name),
        brackets=any(text.startswith("(") or "(" in text for text in texts_given),
        trailing_minus=any(re.search(r"[\d%]\s*-\s*%?$", text) for text in texts_given),
        percent=any(_PERCENT.search(text) for text in texts_given),
    )
    if rules.percent and not all(_PERCENT.search(text) for text in texts_given):
        other = next(text for text in texts_given if not _PERCENT.search(text))
        raise MeasureError(
            f"{name!r} holds percents and {other!r} without the sign; set "
            f"{setting(NumberRules, 'percent')} if they are percents too"
        )
    fitting = [
        candidate
        for mark, thousands in _MARKS
        if _can_read(texts_given, candidate := replace(rules, decimal=mark, thousands=thousands))
    ]
    if not fitting:
        odd = _odd_text(texts_given, rules)
        if _LONG.fullmatch(odd):
            raise MeasureError(f"{name!r}: {odd!r} has more digits than fit")
        raise MeasureError(f"{name!r}: {odd!r} is not a number under any rule{_if_blank(odd)}")
    decided = _decide_rules(fitting, texts_given, name)
    return decided, _describe_rules(words, describe_marks(decided))


def one_of_each_shape(texts: pa.Array) -> pa.Array:
    """Return the first text of each shape, without the white space around: any rules read either
    all or none of the texts that differ in digits other than 0 alone.

    >>> one_of_each_shape(pa.array(["$1,234", "$5,678 ", None, "$1,230", "NA"])).to_pylist()
    ['$1,234', '$1,230', 'NA']
    """
    trimmed = pc.utf8_trim_whitespace(texts.drop_null())
    if not len(trimmed):
        return trimmed
    data, offsets = text_bytes(trimmed)
    alike = np.where((data > ord("0")) & (data <= ord("9")), ord("1"), data).astype(np.uint8)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(alike)]
    shapes = pa.Array.from_buffers(trimmed.type, len(trimmed), buffers)
    return pc.take(trimmed, pc.array_of(first_rows(shapes)))


def cure(text: str) -> str:
    """Return, in brackets, what would read a text that is no plain number; or nothing.

    >>> cure("$1,234.50")
    " (use numbers='infer' or NumberRules(thousands=',', strip=('$',)))"
    >>> cure("about ten"), cure("nil")
    ('', " (if that means no value, use NumberRules(blanks=('nil',)))")
    """
    try:
        rules = infer_numbers(pa.array([text]), "")[0]
    except UndecidedError:
        marks = spell_option("NumberRules(thousands=..., decimal=...)", "--thousands and --decimal")
        return f" (name the marks with {marks})"
    except MeasureError:
        return _if_blank(text)
    usual = NumberRules(decimal=".")
    own = [part for part in fields(rules) if getattr(rules, part.name) != getattr(usual, part.name)]
    settings = ", ".join(f"{part.name}={getattr(rules, part.name)!r}" for part in own)
    options = " ".join(_as_option(part, getattr(rules, part.name)) for part in own)
    cure = spell_option(
        f"numbers='infer' or NumberRules({settings})", f"--numbers infer, or {options}"
    )
    return f" (use {cure})"


_FIELDS = {part.name: part for part in fields(NumberRules)}
_LONGEST_WORD = 12  # that may mean that there is no value


def is_word(text: str) -> bool:
    """Return whether a text is one word without digits, as those are that mean none.

    >>> is_word("nil"), is_word("about ten"), is_word("12a")
    (True, False, False)
    """
    return bool(text) and len(text) <= _LONGEST_WORD and not re.search(r"[\d\s]", text)


def _if_blank(text: str) -> str:
    """Return, in brackets, what would read a word as blank; nothing for what is no word."""
    if not is_word(text):
        return ""
    option = spell_option(f"NumberRules(blanks={(text,)!r})", _as_option(_FIELDS["blanks"], text))
    return f" (if that means no value, use {option})"


def _as_option(of: Field[Any], value: Any) -> str:
    """Return a rule as the command line has it."""
    values = value if isinstance(value, tuple) else [value]
    return " ".join(
        flag(of) if value is True else f"{flag(of)} {shell_word(value)}" for value in values
    )


class UndecidedError(MeasureError):
    """Numbers that two rules read differently."""


class UnsureError(MeasureError):
    """Numbers of which some are written as if they were of another size, or are bounds."""


def _decide_rules(fitting: Sequence[NumberRules], texts: list[str], name: str) -> NumberRules:
    """Return the rules that all others agree with; raises `MeasureError` where some do not."""
    first = fitting[0]
    values = [read_written(pa.array(texts, pa.string()), rules)[0] for rules in fitting]
    for other, values_of_other in zip(fitting[1:], values[1:], strict=True):
        for text, one, two in zip(
            texts, values[0].to_pylist(), values_of_other.to_pylist(), strict=True
        ):
            if one != two:
                raise UndecidedError(
                    f"{name!r} could be read in two ways: {text!r} is {one} with decimal="
                    f"{first.decimal!r}, and {two} with decimal={other.decimal!r}, and no other "
                    f"value decides; name the mark with {setting(NumberRules, 'decimal')}"
                )
    return first


def _can_read(texts: list[str], rules: NumberRules) -> bool:
    wrong = read_written(pa.array(texts, pa.string()), rules)[2]
    return not pc.any(wrong).as_py()


def _odd_text(texts: list[str], rules: NumberRules) -> str:
    """Return a text that the most common marks do not read."""
    wrong = []
    for mark, thousands in _MARKS:
        own = replace(rules, decimal=mark, thousands=thousands)
        wrong.append(read_written(pa.array(texts, pa.string()), own)[2].to_pylist())
    fewest = min(wrong, key=sum)
    return next(text for text, bad in zip(texts, fewest, strict=True) if bad)


def _find_affixes(texts: list[str], name: str) -> tuple[str, ...]:
    """Return the words and signs before and behind the numbers: one currency, and units."""
    texts_by_word: dict[str, str] = {}
    without = ""
    for text in texts:
        core = re.fullmatch(r"[-+(−]*\s*(\D*?)[-+(−]?\s*([.,]?\d.*?)\s*([^\d.,'’]*)", text)
        if core is None:
            raise MeasureError(
                f"{name!r}: {text!r} is not a number under any rule{_if_blank(text)}"
            )
        for word in (core[1], core[3]):
            bare = word.strip(" \u00a0\u202f-+()%−")
            if {*bare} & {*"<>≤≥"}:
                raise UnsureError(
                    f"{name!r} could not be added up: {text!r} is a bound, not a number; to count "
                    f"it as blank, use {setting(NumberRules, 'blanks', text)}"
                )
            if bare:
                texts_by_word.setdefault(bare, text)
        if not re.search(r"[^\W\d]", text):
            without = text
    money = [word for word in texts_by_word if _is_money(word)]
    if len(money) > 1:
        one, two = (repr(texts_by_word[word]) for word in money[:2])
        raise MeasureError(
            f"{name!r} holds amounts in several currencies, such as {one} and {two}, which do not "
            f"add up; select one with {spell_option('where=', '--where CONDITION')}"
        )
    units = [word for word in texts_by_word if word not in money]
    if len(units) > 1 or (units and money):
        examples = " and ".join(repr(texts_by_word[word]) for word in [*money, *units][:_SHOWN])
        raise MeasureError(
            f"{name!r} holds numbers with different words, such as {examples}; name "
            f"those that do not change the amounts with {setting(NumberRules, 'strip')}"
        )
    if without and (sizes := [word for word in units if word.casefold() in _SIZES]):
        large, cure = texts_by_word[sizes[0]], setting(NumberRules, "strip", sizes[0])
        raise UnsureError(
            f"{name!r} could be wrong by a factor: {large!r} may be a multiple of what {without!r} "
            f"is; write all alike, or use {cure} if {sizes[0]!r} changes nothing"
        )
    return tuple(texts_by_word)


# Words behind a number that may multiply it, in several languages.
_SIZES = frozenset(
    (
        *("k", "m", "mm", "mn", "mio", "mil", "million", "millions", "b", "bn", "bln", "billion"),
        *("t", "tn", "thousand", "thousands", "tsd", "mrd", "md", "lakh", "lac", "crore", "crores"),
    )
)


def _is_money(word: str) -> bool:
    return word.upper() in MONEY or any(unicodedata.category(sign) == "Sc" for sign in word)


def _is_no_money(text: str) -> bool:
    """Return whether a text is a dash in a column of money, as spreadsheets show nothing.

    >>> [_is_no_money(text) for text in ("$ -", "- EUR", "-$5", "$")]
    [True, True, False, False]
    """
    sign = text.strip(" -–—")
    return sign != text and _is_money(sign) and not re.search(r"\d", text)


def describe_marks(rules: NumberRules) -> list[str]:
    """Return how rules read numbers that plain ones do not: `thousands ','`."""
    marks = [f"decimal {rules.decimal!r}"] if rules.decimal == "," else []
    marks += [f"thousands {rules.thousands!r}"] if rules.thousands else []
    marks += [f"without {', '.join(map(repr, rules.strip))}"] if rules.strip else []
    marks += ["brackets are negative"] if rules.brackets else []
    marks += ["the sign may follow"] if rules.trailing_minus else []
    return marks + (["percents are hundredths"] if rules.percent else [])


def _describe_rules(words: list[str], marks: list[str]) -> str:
    verb = "counts" if len(words) == 1 else "count"
    blanks = [f"{', '.join(map(repr, words))} {verb} as blank"] if words else []
    return "; ".join([*marks, *blanks])
