"""The levels of a calendar, and amounts of time written as `"6 months"`."""

from __future__ import annotations

import re
from typing import NamedTuple

from eptaro.core.errors import CalendarError, QuestionError, unknown

LEVELS = ("year", "half", "quarter", "month", "week", "day")
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")

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


def check_level(level: str, offered: tuple[str, ...] = LEVELS) -> str:
    """Return the level when it is offered, or raise `CalendarError` naming those that are."""
    if level not in offered:
        raise CalendarError(unknown("level", level, offered))
    return level


def check_weekday(name: str, argument: str) -> int:
    """Return 0 (monday) to 6 (sunday) for an English weekday name in lower case."""
    if name not in WEEKDAYS:
        raise CalendarError(unknown(f"weekday for {argument}", name, WEEKDAYS))
    return WEEKDAYS.index(name)


def check_choice(argument: str, value: str, accepted: tuple[str, ...]) -> str:
    """Return the value when it is accepted, or raise `CalendarError` naming those that are."""
    if value not in accepted:
        raise CalendarError(unknown(f"value for {argument}", value, accepted))
    return value


def parse_month_day(text: str, argument: str) -> tuple[int, int]:
    """Return month and day of a month-day such as `04-01`; 31 is the most for any month."""
    found = re.fullmatch(r"(\d{2})-(\d{2})", text) if isinstance(text, str) else None
    if not found or not 1 <= int(found[1]) <= 12 or not 1 <= int(found[2]) <= 31:
        raise CalendarError(f"{argument}={text!r} is not a month-day; write it as 04-01")
    return int(found[1]), int(found[2])


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
