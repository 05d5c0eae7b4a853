"""What `only` and `per` may say beside levels and labels: relative periods and chunks."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendar import Calendar
from eptaro.core.days import Ints, as_dates, ordinal
from eptaro.core.errors import QuestionError
from eptaro.core.levels import LEVELS, Amount, parse_amount
from eptaro.core.period import Period
from eptaro.core.span import Span

_RELATIVE = re.compile(r"(this|last)\s+(?:(\d+)\s+)?([a-z]+)")
_CHUNKS = re.compile(r"(\d+\s+[a-z]+)\s+from\s+(\d{4}-\d{2}-\d{2})")


def relative_span(text: str, calendar: Calendar, today: int) -> Span | None:
    """Return the span of `this year`, `last month` or `last 3 months`, or None.

    `this` is the period that holds the as-of date, `last n` the n whole ones before it.
    """
    found = _RELATIVE.fullmatch(text.strip().lower())
    if not found:
        return None
    amount = parse_amount(f"{found[2] or 1} {found[3]}", "only")
    if amount.level not in calendar.levels:
        raise QuestionError(f"only={text!r}: calendar {calendar.name!r} has no {amount.level}s")
    now = Period(calendar, amount.level, int(calendar.index_of(np.array([today]), amount.level)[0]))
    if found[1] == "this":
        if found[2] not in (None, "1"):
            raise QuestionError(f"only={text!r}: there is one this; say last {amount}")
        return now.span
    first, last = now.shift(-amount.n), now.shift(-1)
    if first is None or last is None:
        raise QuestionError(f"only={text!r} reaches out of the calendar")
    return Span(first.first, last.last)


class Chunks:
    """Spans of so many units, one after the other from a day on, both ways."""

    def __init__(self, amount: Amount, start: int, calendar: Calendar) -> None:
        self._amount, self._start, self._calendar = amount, start, calendar

    @classmethod
    def parse(cls, per: str, calendar: Calendar) -> Chunks | None:
        """Return the chunks written as `5 months from 2024-03-20`, or None."""
        found = _CHUNKS.fullmatch(per.strip().lower())
        if not found:
            return None
        return cls(parse_amount(found[1], "per"), ordinal(found[2]), calendar)

    def over(self, seen: Span) -> tuple[Ints, Ints, NDArray[np.str_]]:
        """Return first days, last days and labels of the chunks that share a day with a span."""
        width = {"day": 1, "week": 7, "month": 28, "quarter": 84, "half": 168, "year": 364}
        least = width[self._amount.level] * self._amount.n
        before = max(self._start - seen.lo, 0) // least + 2
        after = max(seen.hi - self._start, 0) // least + 2
        steps = np.arange(-before, after + 1) * self._amount.n
        start = np.full(len(steps), self._start)
        begins = self._calendar.move_days(start, steps, self._amount.level)[0]
        first, last = begins[:-1], begins[1:] - 1
        keep = (last >= seen.lo) & (first <= seen.hi)
        first, last = first[keep], last[keep]
        one, two = (np.datetime_as_string(as_dates(days), unit="D") for days in (first, last))
        return first, last, np.char.add(np.char.add(one, ".."), two)


def wider(levels: Sequence[str], per: str, calendar: Calendar) -> list[str]:
    """Return levels for subtotals, narrow first; each must be wider than `per`."""
    for level in levels:
        if level not in calendar.levels or LEVELS.index(level) >= LEVELS.index(per):
            fits = [lv for lv in calendar.levels if LEVELS.index(lv) < LEVELS.index(per)]
            raise QuestionError(
                f"subtotals={level!r} is not wider than per={per!r}; "
                f"use {', '.join(fits) or 'none'}"
            )
    return sorted(dict.fromkeys(levels), key=LEVELS.index, reverse=True)
