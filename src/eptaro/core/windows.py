"""Windows: which days a rolling window holds, for each day that it ends on."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from eptaro.core.calendar import Calendar
from eptaro.core.days import Ints
from eptaro.core.errors import QuestionError, unknown
from eptaro.core.levels import LEVELS
from eptaro.core.workdays import Workdays

_AMOUNT = re.compile(r"\s*(\d{1,9})\s+([a-z]+(?: [a-z]+)?)\s*")
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
        found = _AMOUNT.fullmatch(str(text).lower())
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


@dataclass(frozen=True)
class Windows:
    """How windows lie about their day."""

    back: Reach
    ahead: Reach | None
    centred: bool
    closed: bool

    def check(self) -> None:
        """Raise `QuestionError` for windows that cannot be."""
        if self.centred and (self.back.unit not in ("day", "week") or self.ahead or self.closed):
            raise QuestionError("a centred window is a number of days or weeks, and nothing else")
        if self.ahead and BY_GROUP[0] in (self.back.unit, self.ahead.unit):
            raise QuestionError("active days reach back only; leave ahead out")
        if self.ahead and BY_GROUP[1] in (self.back.unit, self.ahead.unit):
            raise QuestionError("entries reach back only; leave ahead out")
        if self.closed and self.back.unit in BY_GROUP:
            raise QuestionError(f"{self.back} are counted, and have no far edge to close")

    def bounds(self, days: Ints, calendar: Calendar, workdays: Workdays) -> tuple[Ints, Ints]:
        """Return the first and last day of the window of each day.

        A window of n months ends on its day t and begins on the later of `shift(t, -n) + 1
        day` and `shift(t + 1 day, -n)`: never more than n months, and whole months at
        month ends. A closed far edge begins on `shift(t, -n)` itself.
        """
        if self.centred:
            width = self.back.n * (7 if self.back.unit == "week" else 1)
            first = days - width // 2
            return first, first + width - 1
        n, unit = self.back.n, self.back.unit
        if unit == "workday":
            counted = workdays.number(days + 1)
            first = workdays.move(days, -n) if self.closed else workdays.day_at(counted - n)
        else:
            first = calendar.move_days(days, -n, unit)[0]
            if not self.closed:
                first = np.maximum(first + 1, calendar.move_days(days + 1, -n, unit)[0])
        return first, self._last(days, calendar, workdays)

    def _last(self, days: Ints, calendar: Calendar, workdays: Workdays) -> Ints:
        if self.ahead is None:
            return days
        n, unit = self.ahead.n, self.ahead.unit
        if unit == "workday":
            return workdays.day_at(workdays.number(days + 1) + n - 1)
        return calendar.move_days(days + 1, n, unit)[0] - 1
