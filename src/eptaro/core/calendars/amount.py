"""Amounts of time, working time or transactions, written as `"6 months"` or `"5 entries"`."""

from __future__ import annotations

import re
from typing import NamedTuple

from eptaro.core.calendars.levels import LEVELS
from eptaro.errors import QuestionError, unknown

WORKDAY, ACTIVE_DAY, ENTRY = "workday", "active day", "entry"
BY_GROUP = (ACTIVE_DAY, ENTRY)  # units that each group counts for itself
COUNTED = (WORKDAY, *BY_GROUP)  # units that are no level of a calendar
_MANY = {"half": "halves", "entry": "entries"}
_UNITS = {
    form: unit
    for unit in (*LEVELS, *COUNTED)
    for form in (unit, f"{unit}s" if unit != ENTRY else "entries")
} | {"halves": "half"}
_WRITTEN = re.compile(r"\s*(\d{1,9})\s+([a-z]+(?: [a-z]+)?)\s*")
_MOST = 999_999  # units of a calendar


class Amount(NamedTuple):
    """So many units of a calendar's levels, of workdays, of active days or of transactions."""

    n: int
    unit: str

    @classmethod
    def parse(cls, text: str, argument: str) -> Amount:
        """Return what is written as `6 months`, `10 workdays` or `5 entries`.

        Raises `QuestionError`, naming the argument, for anything else.

        >>> Amount.parse("10 active days", "back")
        Amount(n=10, unit='active day')
        """
        found = _WRITTEN.fullmatch(str(text).lower())
        if not found:
            raise QuestionError(
                f"{argument}={text!r} is not an amount; write '6 months' or '5 entries'"
            )
        return cls._of(text, argument, int(found[1]), found[2], (*LEVELS, *COUNTED))

    @classmethod
    def of_levels(cls, text: str, argument: str) -> Amount:
        """Return what is written as `6 months`, in units of a calendar's levels alone.

        >>> Amount.of_levels("6 months", "back")
        Amount(n=6, unit='month')
        """
        found = _WRITTEN.fullmatch(text.lower())
        if not found or " " in found[2] or int(found[1]) > _MOST:
            raise QuestionError(
                f"{argument}={text!r} is not an amount of time; write it as '1 year' or '6 months'"
            )
        return cls._of(text, argument, int(found[1]), found[2], LEVELS)

    @classmethod
    def _of(cls, text: str, argument: str, n: int, unit: str, accepted: tuple[str, ...]) -> Amount:
        if _UNITS.get(unit) not in accepted:
            raise QuestionError(unknown(f"unit in {argument}", unit, accepted))
        if n < 1:
            raise QuestionError(f"{argument}={text!r} must be at least 1 {_UNITS[unit]}")
        return cls(n, _UNITS[unit])

    def __str__(self) -> str:
        return f"{self.n} {self.unit if self.n == 1 else _MANY.get(self.unit, f'{self.unit}s')}"
