"""Amounts of time, working time or transactions, written as `"6 months"`."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NamedTuple

from eptaro.core.calendars.levels import LEVELS
from eptaro.errors import QuestionError, unknown

_PLURALS = {"halves": "half", "half": "half"} | {
    form: level for level in LEVELS for form in (level, f"{level}s") if level != "half"
}


_AMOUNT = re.compile(r"\s*(\d{1,6})\s+([A-Za-z]+)\s*")


class Amount(NamedTuple):
    """So many units of one level, such as 6 months."""

    n: int
    level: str

    def __str__(self) -> str:
        plural = "halves" if self.level == "half" else f"{self.level}s"
        return f"{self.n} {self.level if self.n == 1 else plural}"


def parse_amount(text: str, argument: str) -> Amount:
    """Return the amount written as a whole number and a unit.

    >>> parse_amount("6 months", "back")
    Amount(n=6, level='month')
    """
    found = _AMOUNT.fullmatch(text)
    if not found:
        raise QuestionError(
            f"{argument}={text!r} is not an amount of time; write it as '1 year' or '6 months'"
        )
    n, unit = int(found[1]), found[2].lower()
    if unit not in _PLURALS:
        raise QuestionError(unknown(f"unit in {argument}", unit, LEVELS))
    if n < 1:
        raise QuestionError(f"{argument}={text!r} must be at least 1 {_PLURALS[unit]}")
    return Amount(n, _PLURALS[unit])


_REACH = re.compile(r"\s*(\d{1,9})\s+([a-z]+(?: [a-z]+)?)\s*")


OWN_UNITS = {"workday": "workdays", "active day": "active days", "entry": "entries"}


_FORMS = {
    **{form: level for level in LEVELS for form in (level, f"{level}s")},
    "halves": "half",
    **{form: unit for unit, many in OWN_UNITS.items() for form in (unit, many)},
}


BY_GROUP = ("active day", "entry")


@dataclass(frozen=True)
class Reach:
    """So many units of time, working time or transactions."""

    n: int
    unit: str

    @classmethod
    def parse(cls, text: str, argument: str) -> Reach:
        """Return what is written as `6 months`, `10 workdays` or `5 entries`.

        >>> Reach.parse("10 active days", "back")
        Reach(n=10, unit='active day')
        """
        found = _REACH.fullmatch(str(text).lower())
        if not found:
            raise QuestionError(
                f"{argument}={text!r} is no amount; write '6 months' or '5 entries'"
            )
        if found[2] not in _FORMS:
            raise QuestionError(unknown(f"unit in {argument}", found[2], [*LEVELS, *OWN_UNITS]))
        if int(found[1]) < 1:
            raise QuestionError(f"{argument}={text!r} must be at least 1")
        return cls(int(found[1]), _FORMS[found[2]])

    def __str__(self) -> str:
        many = OWN_UNITS.get(self.unit, "halves" if self.unit == "half" else f"{self.unit}s")
        return f"{self.n} {self.unit if self.n == 1 else many}"
