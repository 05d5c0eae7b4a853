"""The levels of calendars, and amounts of time such as 6 months."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal, NamedTuple, TypeAlias, TypeVar, get_args

from eptaro.errors import CalendarError, QuestionError, show_option, unknown

Word = TypeVar("Word", bound=str)

LEVELS = ("year", "half", "quarter", "month", "week", "day")

Weekday: TypeAlias = Literal[
    "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
]
YearNamed: TypeAlias = Literal["start", "end"]  # for the calendar year that it starts or ends in
YearEnds: TypeAlias = Literal["nearest", "last"]  # to a day of the year, or on or before it

WEEKDAYS: tuple[Weekday, ...] = get_args(Weekday)


# Words that people may write for a level, so that the refusal can name ours.
_SYNONYMS = {
    word: level
    for level, words in {
        "year": "y a ye ys annual annually yearly",
        "quarter": "q qe qs quarterly",
        "month": "m me ms monthly",
        "week": "w weekly",
        "day": "d daily",
    }.items()
    for word in words.split()
}


def check_level(level: str, offered: tuple[str, ...] = LEVELS) -> str:
    """Return the level when it is offered, or raise `CalendarError` naming those that are."""
    if level not in offered:
        raise CalendarError(unknown("level", level, offered, _SYNONYMS))
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
    match = re.fullmatch(r"(\d{2})-(\d{2})", text) if isinstance(text, str) else None
    if not match or not 1 <= int(match[1]) <= 12 or not 1 <= int(match[2]) <= 31:
        raise CalendarError(f"{argument}={text!r} is not a month-day; write it as 04-01")
    return int(match[1]), int(match[2])


_ENGLISH_MONTHS = (
    *("January", "February", "March", "April", "May", "June", "July"),
    *("August", "September", "October", "November", "December"),
)


# What a month is called in a column of its own: `April`, `apr`, `Apr.`.
MONTH_WORDS = {
    word.lower(): number
    for number, name in enumerate(_ENGLISH_MONTHS, 1)
    for word in (name, name[:3], *(["Sept"] if name == "September" else []))
}


_MONTH_IN_DIGITS = re.compile(r"0*(\d{1,2})(\.0*)?", re.ASCII)


def month_number(word: str) -> int | None:
    """Return the number of a month from its English name or abbreviation, or from its digits; None
    for other words.

    >>> month_number("April"), month_number("SEPT."), month_number("04"), month_number("Avril")
    (4, 9, 4, None)
    """
    word = word.strip()
    if match := _MONTH_IN_DIGITS.fullmatch(word):
        return int(match[1])
    return MONTH_WORDS.get(word.rstrip(".").lower())


class Names:
    """English names; a subclass gives those of another locale."""

    locale: str = "en"
    weekdays: Sequence[str] = tuple(day.title() for day in WEEKDAYS)
    weekdays_short: Sequence[str] = tuple(day.title()[:3] for day in WEEKDAYS)
    months: Sequence[str] = _ENGLISH_MONTHS
    months_short: Sequence[str] = tuple(month[:3] for month in _ENGLISH_MONTHS)

    def month_day(self, month: int, day: int) -> str:
        """Return a day of the year.

        >>> Names().month_day(4, 1)
        '1 April'
        """
        return f"{day} {self.months[month - 1]}"

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
_SHORT = re.compile(r"\s*(\d{0,6})([a-z]{1,2})\s*")  # such as 7d
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
        match = _WRITTEN.fullmatch(str(text).lower())
        if not match:
            short = _SHORT.fullmatch(str(text).lower())
            unit = _SYNONYMS.get(short[2]) if short else None
            cure = "'6 months' or '5 entries'"
            if short and unit:
                cure = f"'{Amount(int(short[1] or 1), unit)}'"
            raise QuestionError(f"{show_option(argument, text)} is not an amount; write {cure}")
        return cls._of(text, argument, int(match[1]), match[2], (*LEVELS, *COUNTED))

    @classmethod
    def of_levels(cls, text: str, argument: str) -> Amount:
        """Return what is written as `6 months`, in units of a calendar's levels alone.

        >>> Amount.of_levels("6 months", "back")
        Amount(n=6, unit='month')
        """
        match = _WRITTEN.fullmatch(text.lower())
        if not match or " " in match[2] or int(match[1]) > _MOST:
            raise QuestionError(
                f"{show_option(argument, text)} is not an amount of time; write it as '1 year' or "
                "'6 months'"
            )
        return cls._of(text, argument, int(match[1]), match[2], LEVELS)

    @classmethod
    def _of(cls, text: str, argument: str, n: int, unit: str, accepted: tuple[str, ...]) -> Amount:
        if _UNITS.get(unit) not in accepted:
            raise QuestionError(unknown(f"unit in {argument}", unit, accepted))
        if n < 1:
            raise QuestionError(f"{argument}={text!r} must be at least 1 {_UNITS[unit]}")
        return cls(n, _UNITS[unit])

    def __str__(self) -> str:
        return f"{self.n} {self.unit if self.n == 1 else _MANY.get(self.unit, f'{self.unit}s')}"
