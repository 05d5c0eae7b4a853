"""The levels of a calendar, weekdays, what they are called, and checks of arguments.

Names are English here; those of other locales come from outside.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal, TypeAlias, TypeVar, get_args

from eptaro.errors import CalendarError, unknown

Word = TypeVar("Word", bound=str)

LEVELS = ("year", "half", "quarter", "month", "week", "day")

Weekday: TypeAlias = Literal[
    "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
]
YearNamed: TypeAlias = Literal["start", "end"]  # for the calendar year that it starts or ends in
YearEnds: TypeAlias = Literal["nearest", "last"]  # to a day of the year, or on or before it

WEEKDAYS: tuple[Weekday, ...] = get_args(Weekday)


def check_level(level: str, offered: tuple[str, ...] = LEVELS) -> str:
    """Return the level when it is offered, or raise `CalendarError` naming those that are."""
    if level not in offered:
        raise CalendarError(unknown("level", level, offered))
    return level


def as_wide(level: str, least: str) -> str:
    """Return a level, or the least one where that is wider.

    >>> as_wide("month", "day"), as_wide("month", "quarter")
    ('month', 'quarter')
    """
    return min(level, least, key=LEVELS.index)


def check_weekday(name: str, argument: str) -> int:
    """Return 0 (monday) to 6 (sunday) for an English weekday name in lower case."""
    if name not in WEEKDAYS:
        raise CalendarError(unknown(f"weekday for {argument}", name, WEEKDAYS))
    return WEEKDAYS.index(name)


def check_choice(argument: str, value: Word, accepted: tuple[Word, ...]) -> Word:
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


_ENGLISH_MONTHS = (
    *("January", "February", "March", "April", "May", "June", "July"),
    *("August", "September", "October", "November", "December"),
)


class Names:
    """English names; a subclass gives those of another locale."""

    locale: str = "en"
    weekdays: Sequence[str] = tuple(day.title() for day in WEEKDAYS)
    weekdays_short: Sequence[str] = tuple(day.title()[:3] for day in WEEKDAYS)
    months: Sequence[str] = _ENGLISH_MONTHS
    months_short: Sequence[str] = tuple(month[:3] for month in _ENGLISH_MONTHS)

    @property
    def months_in_dates(self) -> Sequence[Sequence[str]]:
        """Further forms that months take inside dates, as in some languages."""
        return ()

    def month_of(self, year: int, month: int, *, short: bool = False) -> str:
        """Return a civil month with its year.

        >>> Names().month_of(2025, 8)
        'August 2025'
        """
        return f"{(self.months_short if short else self.months)[month - 1]} {year}"

    def quarter_of(self, year: str, quarter: int, *, short: bool = False) -> str:
        """Return a quarter with its year as the calendar writes it.

        >>> Names().quarter_of("FY2026", 2)
        '2nd quarter FY2026'
        """
        if short:
            return f"Q{quarter} {year}"
        return f"{('1st', '2nd', '3rd', '4th')[quarter - 1]} quarter {year}"
