"""Windows: which days a rolling window holds, for each day that it ends on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.amount import ACTIVE_DAY, BY_GROUP, ENTRY, WORKDAY, Amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.workdays import Workdays
from eptaro.errors import QuestionError


@dataclass(frozen=True)
class Windows:
    """How windows lie about their day."""

    back: Amount
    ahead: Amount | None
    centred: bool
    closed: bool

    def check(self) -> None:
        """Raise `QuestionError` for windows that cannot be."""
        if self.centred and (self.back.unit not in ("day", "week") or self.ahead or self.closed):
            raise QuestionError("a centred window is a number of days or weeks, and nothing else")
        if self.ahead and ACTIVE_DAY in (self.back.unit, self.ahead.unit):
            raise QuestionError("active days reach back only; leave ahead out")
        if self.ahead and ENTRY in (self.back.unit, self.ahead.unit):
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
        if unit == WORKDAY:
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
        if unit == WORKDAY:
            return workdays.day_at(workdays.number(days + 1) + n - 1)
        return calendar.move_days(days + 1, n, unit)[0] - 1
