"""The sides of a comparison: its periods, and the counterpart of each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import BY_GROUP, LEVELS, Amount, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.query.view import View
from eptaro.core.verbs.queries import MATCHES, Match
from eptaro.core.verbs.windows import Windows
from eptaro.errors import QuestionError, show_option, unknown
from eptaro.record import record


@record
class Sides:
    """Spans of days row by row, each the whole or a part of the period at `index`.

    A side that does not exist may hold any days; `clamped` marks ends that were cut short, and
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
        """Return sides labelled by their periods; without days given, the whole of these.

        All arrays are `(n_rows,)`.
        """
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
        """Return the sides at some places. `place` is `(n,)`."""
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
            f"{show_option('trailing', trailing)} is not a span of time; "
            "name days, weeks, months, workdays, ..."
        )
    return Windows(reach, None, False, False)


def trailing_windows(view: View, per: str, windows: Windows) -> Sides:
    """Return for each period of a level the window that ends with it, or with the coverage."""
    whole = whole_periods(view, per)
    last = np.minimum(whole.last, view.seen.hi)
    first, _ = windows.bounds(last, view.calendar, view.facts.workdays)
    return replace(whole, first=first, last=last)


def each_day(view: View, per: str, cut: Sides, every: str) -> Sides:
    """Return periods to date once for each day, or end of a finer period, in between."""
    offered = view.calendar.levels
    if LEVELS.index(check_level(every, offered)) < LEVELS.index(per):
        fits = [level for level in LEVELS[LEVELS.index(per) :] if level in offered]
        raise QuestionError(
            f"{show_option('every', every)} is wider than {show_option('per', per)}; use "
            f"{', '.join(fits)}"
        )
    days = cut.last - cut.first + 1
    place = np.repeat(np.arange(len(cut)), days)
    last = np.arange(len(place)) - np.repeat(np.cumsum(days) - days, days) + cut.first[place]
    if every != "day":
        ends = view.calendar.last_days(view.calendar.index_of(last, every), every)
        ends_here = (last == ends) | (last == cut.last[place])
        place, last = place[ends_here], last[ends_here]
    return replace(cut.at(place), last=last)


def all_on(now: Sides, span: Span) -> Sides:
    """Return prior sides that are one span, whatever the current side is."""
    same = np.zeros(len(now), np.int64)
    # A fixed span is no period of the calendar: its days are its label.
    no = np.zeros(len(now), bool)

    def labelled(index: Ints) -> NDArray[Any]:
        return np.full(len(index), str(span))

    return Sides(labelled, now.index, same + span.lo, same + span.hi, ~no, no)


Counterpart = Callable[[Sides, "Ints | int"], Sides]  # of sides, so many steps back


_WEEKS = {"week": 1, "month": 4, "quarter": 13, "half": 26, "year": 52}


def of_whole(view: View, per: str, step: str) -> Counterpart:
    """Return what finds whole periods: those of the same place, `n` steps back."""
    calendar = view.calendar

    def find(now: Sides, n: Ints | int) -> Sides:
        index, exists = calendar.counterparts(now.index, per, -n, step)
        clamped = None
        if per == "day":
            _, clamped = calendar.move_days(now.index, -n, step)
        return Sides.of(
            calendar, per, np.where(exists, index, now.index), exists=exists, clamped=clamped
        )

    return find


def of_windows(view: View, per: str, step: str, windows: Windows) -> Counterpart:
    """Return what finds windows `n` steps back.

    Windows of months and wider move as spans, so that whole months stay whole. Windows of days and
    workdays keep their number: they end on the counterpart of their last day, where the end of a
    period meets the end of a period.
    """
    calendar, workdays, unit = view.calendar, view.facts.workdays, windows.back.unit
    keeps_ends = per != "day" and step in calendar.steps(per)

    def find(now: Sides, n: Ints | int) -> Sides:
        # Both ends move, or a window of whole months would lose days where months differ in length.
        if unit not in ("day", "week", "workday"):
            first, last, clamped = calendar.move_spans(now.first, now.last, -n, step)
        else:
            last, clamped = calendar.move_days(now.last, -n, step)
            if keeps_ends:
                prior, exists = calendar.counterparts(now.index, per, -n, step)
                at_end = exists & (now.last == calendar.last_days(now.index, per))
                ends = calendar.last_days(np.where(exists, prior, now.index), per)
                last, clamped = np.where(at_end, ends, last), clamped & ~at_end
            first, _ = windows.bounds(last, calendar, workdays)
        index = calendar.index_of(last, per)
        return Sides.of(calendar, per, index, first, last, clamped=clamped)

    return find


def of_to_date(view: View, per: str, step: str, match: Match) -> Counterpart:
    """Return what finds periods to date: the prior period cut at the day's counterpart."""
    if match not in MATCHES:
        raise QuestionError(unknown("value for match", match, MATCHES))
    if match == "weekday" and step not in _WEEKS:
        raise QuestionError(
            f"{show_option('match', 'weekday')} moves by whole weeks; a {step} is none"
        )
    calendar, workdays = view.calendar, view.facts.workdays

    def find(now: Sides, n: Ints | int) -> Sides:
        prior, exists = calendar.counterparts(now.index, per, -n, step)
        n = np.where(exists, n, 0)  # a side that does not exist may hold any days
        prior = np.where(exists, prior, now.index)
        first, end = calendar.first_days(prior, per), calendar.last_days(prior, per)
        start, stop = now.first, now.last
        clamped = np.zeros(len(now), bool)
        if match == "weekday":
            # Weekdays meet again after whole weeks alone, so a year is 52 of them, whatever its
            # length.
            first, cut = start - 7 * _WEEKS[step] * n, stop - 7 * _WEEKS[step] * n
        elif match == "workday":
            cut, clamped = as_many_workdays(workdays, start, stop, first, end)
            exists = exists & (cut >= first)  # no day of the prior period has so few
            cut = np.maximum(cut, first)
        elif match == "date" and per == "day":
            clamped, cut = calendar.move_days(stop, -n, step)[1], first
        # Only where a month has the same days each year is a date in it a place to go back to;
        # periods of a calendar of weeks count days from their beginning instead.
        elif match == "date" and per != "week" and calendar.days_keep_numbers:
            first, cut, clamped = calendar.move_spans(start, stop, -n, step)
        else:
            # As many days in: for a week the same weekday. A whole period meets a whole one.
            cut = first + (stop - start)
            whole = (match == "date") & (stop == calendar.last_days(now.index, per))
            clamped = ~whole & (cut > end)
            cut = np.where(whole, end, np.minimum(cut, end))
        return Sides.of(calendar, per, prior, first, cut, exists, clamped)

    return find


def as_many_workdays(
    workdays: Workdays, start: Ints, stop: Ints, first: Ints, end: Ints
) -> tuple[Ints, Flags]:
    """Return the day of the prior period with as many workdays elapsed, and where it has not.

    All are `(n_sides,) int64`, and so are the results.

    Where the current day is no workday itself, it is the last such day.
    """
    elapsed = workdays.between(start, stop)
    opens = workdays.number(first)
    on_workday = workdays.is_workday(stop)
    # A prior period with fewer workdays is taken whole, and said to be cut short.
    short = elapsed > workdays.between(first, end)
    reached = np.where(
        on_workday, workdays.day_at(opens + elapsed - 1), workdays.day_at(opens + elapsed) - 1
    )
    return np.minimum(reached, end), short


def restate(calendar: Calendar, amount: Amount, match: Match, now: Sides, prior: Sides) -> Sides:
    """Return the prior sides with those of years after a 53-week year 52 weeks back, day for day.

    Raises `QuestionError` on other calendars, and where it is not the year before.
    """
    from eptaro.core.calendars.week import WeekCalendar

    if not isinstance(calendar, WeekCalendar):
        raise QuestionError(
            f"{show_option('align', 'restated')} is for years of whole weeks (WeekCalendar)"
        )
    if (amount.n, amount.unit, match) != (1, "year", "date"):
        raise QuestionError(
            f"{show_option('align', 'restated')} goes with {show_option('back', '1 year')} "
            f"and {show_option('match', 'date')}"
        )
    years = calendar.index_of(now.first, "year")
    # After a 53rd week the same week number lies a week late: 52 weeks back is the week of the same
    # season.
    after = calendar.weeks_in(years - 1) == 53
    return replace(
        prior,
        first=np.where(after, now.first - 364, prior.first),
        last=np.where(after, now.last - 364, prior.last),
        exists=prior.exists | after,
        clamped=prior.clamped & ~after,
    )
