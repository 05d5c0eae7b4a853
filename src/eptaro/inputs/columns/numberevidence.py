"""How the numbers of a column are written, by the evidence of all its texts."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import fields, replace
from typing import Literal

import pyarrow as pa
import pyarrow.compute as pc

from eptaro.errors import MeasureError
from eptaro.inputs.columns.writtennumbers import read_written
from eptaro.rules.numbers import NumberRules

BLANKS = (
    *("NA", "N/A", "n/a", "na", "N.A.", "n.a.", "#N/A", "NULL", "Null", "null", "None", "none"),
    *("NaN", "nan", "-", "--", "–", "—", "."),
)
_CODES = frozenset(("EUR", "USD", "GBP", "CHF", "JPY", "CNY", "INR", "AUD", "CAD", "NZD"))
_CODES_TOO = frozenset(("SEK", "NOK", "DKK", "PLN", "CZK", "HUF", "BRL", "MXN", "ZAR", "SGD"))
_MONEY = _CODES | _CODES_TOO
_MARKS: tuple[tuple[Literal[".", ","], str | None], ...] = (
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
    distinct = pc.unique(pc.utf8_trim_whitespace(texts)).drop_null().to_pylist()
    words = [word for word in distinct if word in BLANKS]
    said = [text for text in distinct if text and text not in BLANKS]
    usual = NumberRules(decimal="," if decimal == "," else ".", blanks=words)
    if _reads(said, usual):
        return usual, _told(words, [])
    rules = replace(
        usual,
        strip=_around(said, name),
        brackets=any(text.startswith("(") or "(" in text for text in said),
        trailing_minus=any(re.search(r"[\d%]\s*-\s*%?$", text) for text in said),
        percent=any(_PERCENT.search(text) for text in said),
    )
    if rules.percent and not all(_PERCENT.search(text) for text in said):
        other = next(text for text in said if not _PERCENT.search(text))
        raise MeasureError(
            f"{name!r} holds percents and {other!r} without the sign; say what they are with "
            f"NumberRules(percent=...)"
        )
    fitting = [
        made
        for mark, thousands in _MARKS
        if _reads(said, made := replace(rules, decimal=mark, thousands=thousands))
    ]
    if not fitting:
        odd = _odd(said, rules)
        if _LONG.fullmatch(odd):
            raise MeasureError(f"{name!r}: {odd!r} has more digits than fit")
        raise MeasureError(f"{name!r}: {odd!r} is not a number under any rule")
    chosen = _decided(fitting, said, name)
    return chosen, _told(words, _marks(chosen))


def cure(text: str) -> str:
    """Return, in brackets, what would read a text that is no plain number; or nothing.

    >>> cure("$1,234.50")
    " (say numbers=infer, or NumberRules(thousands=',', strip=('$',)))"
    >>> cure("about ten")
    ''
    """
    try:
        rules = infer_numbers(pa.array([text]), "")[0]
    except UndecidedError:
        return " (say which mark is which with NumberRules(thousands=...) or (decimal=...))"
    except MeasureError:
        return ""
    usual = NumberRules(decimal=".")
    said = {
        part.name: getattr(rules, part.name)
        for part in fields(rules)
        if getattr(rules, part.name) != getattr(usual, part.name)
    }
    shown = ", ".join(f"{name}={value!r}" for name, value in said.items())
    return f" (say numbers=infer, or NumberRules({shown}))"


class UndecidedError(MeasureError):
    """Numbers that two rules read differently."""


def _decided(fitting: Sequence[NumberRules], said: list[str], name: str) -> NumberRules:
    """Return the rules that all others agree with; raises `MeasureError` where some do not."""
    first = fitting[0]
    values = [read_written(pa.array(said, pa.string()), rules)[0] for rules in fitting]
    for other, found in zip(fitting[1:], values[1:], strict=True):
        for text, one, two in zip(said, values[0].to_pylist(), found.to_pylist(), strict=True):
            if one != two:
                raise UndecidedError(
                    f"{name!r} could be read in two ways: {text!r} is {one} with decimal="
                    f"{first.decimal!r}, and {two} with decimal={other.decimal!r}, and no other "
                    f"value decides; say which with NumberRules"
                )
    return first


def _reads(said: list[str], rules: NumberRules) -> bool:
    wrong = read_written(pa.array(said, pa.string()), rules)[2]
    return not pc.any(wrong).as_py()


def _odd(said: list[str], rules: NumberRules) -> str:
    """Return a text that the most common marks do not read."""
    wrong = []
    for mark, thousands in _MARKS:
        own = replace(rules, decimal=mark, thousands=thousands)
        wrong.append(read_written(pa.array(said, pa.string()), own)[2].to_pylist())
    fewest = min(wrong, key=sum)
    return next(text for text, bad in zip(said, fewest, strict=True) if bad)


def _around(said: list[str], name: str) -> tuple[str, ...]:
    """Return the words and signs before and behind the numbers: one currency, and units."""
    found: dict[str, str] = {}
    for text in said:
        core = re.fullmatch(r"[-+(−]*\s*(\D*?)[-+(−]?\s*([.,]?\d.*?)\s*([^\d.,'’]*)", text)
        if core is None:
            raise MeasureError(f"{name!r}: {text!r} is not a number under any rule")
        for word in (core[1], core[3]):
            bare = word.strip(" \u00a0\u202f-+()%−")
            if bare:
                found.setdefault(bare, text)
    money = [word for word in found if _is_money(word)]
    if len(money) > 1:
        one, two = (repr(found[word]) for word in money[:2])
        raise MeasureError(
            f"{name!r} holds amounts in several currencies, such as {one} and {two}, which do not "
            f"add up; pick one with where="
        )
    units = [word for word in found if word not in money]
    if len(units) > 1 or (units and money):
        shown = " and ".join(repr(found[word]) for word in [*money, *units][:_SHOWN])
        raise MeasureError(
            f"{name!r} holds numbers with different words, such as {shown}; say with "
            f"NumberRules(strip=...) which say nothing of their size"
        )
    return tuple(found)


def _is_money(word: str) -> bool:
    return word.upper() in _MONEY or any(unicodedata.category(sign) == "Sc" for sign in word)


def _marks(rules: NumberRules) -> list[str]:
    marks = [f"decimal {rules.decimal!r}"] if rules.decimal == "," else []
    marks += [f"thousands {rules.thousands!r}"] if rules.thousands else []
    marks += [f"without {', '.join(map(repr, rules.strip))}"] if rules.strip else []
    marks += ["brackets are negative"] if rules.brackets else []
    marks += ["the sign stands behind"] if rules.trailing_minus else []
    return marks + (["percents are hundredths"] if rules.percent else [])


def _told(words: list[str], marks: list[str]) -> str:
    blanks = [f"{', '.join(map(repr, words))} count as blank"] if words else []
    return "; ".join([*marks, *blanks])
