"""Attributes that are no period: which weekday, month of year, hour or kind of day it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.days import Ints, civil, weekday
from eptaro.core.calendars.names import Names
from eptaro.core.questions.view import View
from eptaro.errors import QuestionError, unknown

ATTRIBUTES = (
    *("hour", "weekday", "day of month", "week of month", "month of year", "quarter of year"),
    *("week of year", "workday", "holiday", "kind of day"),
)


_SHORT = {"month": "month of year", "quarter": "quarter of year", "week": "week of year"}


KINDS = ("workday", "weekend", "holiday")


@dataclass(frozen=True, eq=False)
class Attribute:
    """The values of an attribute in their natural order, and the place of each day's.

    The hour is of the transactions, not of days: every day has all of them.
    """

    name: str
    words: Sequence[str]
    places: Ints

    @property
    def column(self) -> str:
        """The name of its column."""
        return self.name.replace(" ", "_")

    @property
    def by_time(self) -> bool:
        """Whether it needs the time of each transaction."""
        return self.name == "hour"


def full_name(name: str) -> str:
    """Return an attribute's name, which may be written short (month for month of year).

    Raises `QuestionError` naming those that there are.
    """
    full = _SHORT.get(name, name)
    if full not in ATTRIBUTES:
        raise QuestionError(unknown("attribute", name, ATTRIBUTES))
    return full


def attribute_of(view: View, name: str) -> Attribute:
    """Return an attribute over the days that a view sees."""
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    words, places = _words_and_places(view, name, days)
    return Attribute(name, words, places)


def _words_and_places(view: View, name: str, days: Ints) -> tuple[Sequence[str], Ints]:
    calendar, names = view.calendar, Names()
    if name == "hour":
        return [f"{hour:02d}" for hour in range(24)], np.zeros(len(days), np.int64)
    if name == "weekday":
        start = list(names.weekdays).index(str(getattr(calendar, "week_starts", "monday")).title())
        return [names.weekdays[(start + i) % 7] for i in range(7)], (weekday(days) - start) % 7
    if name == "day of month":
        return [str(n) for n in range(1, 32)], civil(days)[2] - 1
    if name == "week of month":
        return [str(n) for n in range(1, 6)], (civil(days)[2] - 1) // 7
    work = view.facts.workdays
    if name == "workday":
        return ["workday", "other day"], 1 - work.is_workday(days).astype(np.int64)
    if name == "holiday":
        held = np.isin(days, work.holidays.days)
        return ["holiday", "other day"], 1 - held.astype(np.int64)
    if name == "kind of day":
        return KINDS, np.where(work.is_workday(days), 0, np.where(work.is_weekend(days), 1, 2))
    level = name.split()[0]
    numbers = calendar.numbers(calendar.index_of(days, level), level)[1]
    count = {"month": 13, "quarter": 4, "week": 53}[level]
    if level == "month" and calendar.plain_months:
        return names.months, numbers - 1
    letter = {"month": "M", "quarter": "Q", "week": "W"}[level]
    form = "{}{:02d}" if count > 9 else "{}{}"
    return [form.format(letter, n) for n in range(1, count + 1)], numbers - 1
