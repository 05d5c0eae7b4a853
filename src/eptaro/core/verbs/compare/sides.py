"""The current side of a comparison: whole periods, periods to date, or trailing windows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.amount import BY_GROUP, Amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import LEVELS, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.questions.view import View
from eptaro.core.verbs.windows import Windows
from eptaro.errors import QuestionError


@dataclass(frozen=True, eq=False)
class Sides:
    """Spans of days row by row, each the whole or a part of the period at `index`.

    A side that does not exist may hold any days; `clamped` tells ends that were cut short, and
    `labelled` returns the labels of periods.
    """

    labelled: Callable[[Ints], NDArray[Any]]
    index: Ints
    first: Ints
    last: Ints
    exists: Flags
    clamped: Flags

    @classmethod
    def of(
        cls,
        calendar: Calendar,
        per: str,
        index: Ints,
        first: Ints | None = None,
        last: Ints | None = None,
        exists: Flags | None = None,
        clamped: Flags | None = None,
    ) -> Sides:
        """Return sides labelled by their periods; without days given, the whole of these."""
        every = np.ones(len(index), bool)
        return cls(
            lambda index: calendar.labels(index, per),
            index,
            calendar.first_days(index, per) if first is None else first,
            calendar.last_days(index, per) if last is None else last,
            every if exists is None else exists,
            ~every if clamped is None else clamped,
        )

    def __len__(self) -> int:
        return len(self.first)

    def at(self, place: Ints) -> Sides:
        """Return the sides at some places."""
        arrays = (getattr(self, field.name)[place] for field in fields(self)[1:])
        return Sides(self.labelled, *arrays)

    @property
    def label(self) -> NDArray[Any]:
        """The label of the period of each row."""
        return self.labelled(self.index)


def whole_periods(view: View, per: str) -> Sides:
    """Return the whole periods that share a day with the days seen."""
    return Sides.of(view.calendar, per, view.calendar.periods(view.seen, per).index)


def window_of(trailing: str) -> Windows:
    """Return the windows written as `12 months` or `20 workdays`."""
    reach = Amount.parse(trailing, "trailing")
    if reach.unit in BY_GROUP:
        raise QuestionError(
            f"trailing={trailing!r} is not a span of time; name days, weeks, months, workdays, ..."
        )
    return Windows(reach, None, False, False)


def trailing_windows(view: View, per: str, windows: Windows) -> Sides:
    """Return for each period of a level the window that ends with it, or with the coverage."""
    whole = whole_periods(view, per)
    last = np.minimum(whole.last, view.seen.hi)
    first, _ = windows.bounds(last, view.calendar, view.facts.workdays)
    return replace(whole, first=first, last=last)


def each_day(view: View, per: str, cut: Sides, every: str) -> Sides:
    """Return periods to date once for each day, or end of a finer period, on the way."""
    offered = view.calendar.levels
    if LEVELS.index(check_level(every, offered)) < LEVELS.index(per):
        fits = [level for level in LEVELS[LEVELS.index(per) :] if level in offered]
        raise QuestionError(f"every={every!r} is wider than per={per!r}; use {', '.join(fits)}")
    days = cut.last - cut.first + 1
    place = np.repeat(np.arange(len(cut)), days)
    last = np.arange(len(place)) - np.repeat(np.cumsum(days) - days, days) + cut.first[place]
    if every != "day":
        ends = view.calendar.last_days(view.calendar.index_of(last, every), every)
        kept = (last == ends) | (last == cut.last[place])
        place, last = place[kept], last[kept]
    return replace(cut.at(place), last=last)


def all_on(now: Sides, span: Span) -> Sides:
    """Return prior sides that are one span, whatever the current side is."""
    same = np.zeros(len(now), np.int64)
    no = np.zeros(len(now), bool)

    def labelled(index: Ints) -> NDArray[Any]:
        return np.full(len(index), str(span))

    return Sides(labelled, now.index, same + span.lo, same + span.hi, ~no, no)
