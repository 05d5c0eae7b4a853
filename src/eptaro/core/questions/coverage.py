"""What the data covers as a whole: its first to last date, grown over days off, or as declared."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.grain import are_whole, last_days
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.planes import ROWS
from eptaro.core.questions.group_coverage import Coverage
from eptaro.errors import DateError, InputError

# What `coverage` may be called where the data is whole to the ends of its periods.
PERIODS = {f"{level}s": level for level in ("year", "quarter", "month", "week")} | {
    "halves": "half"
}


def covered(
    given: Coverage, folded: Folded, calendars: Sequence[Calendar], workdays: Workdays
) -> Span:
    """Return the coverage given, which must hold all the data, or that of the data, of rows that
    a condition left out as well.

    Raises `InputError` for a coverage that is no span, and where rows lie outside.
    """
    if given is None:
        return _grown(folded, calendars, workdays)
    if isinstance(given, str) and given.strip() in PERIODS:
        return _to_whole_periods(given.strip(), folded.days, calendars)
    try:
        span = Span.parse(given) if isinstance(given, str) else given
    except DateError as error:
        raise InputError(
            f"coverage={given!r} is not a span such as 2025-01-01..2025-12-31, and not one of "
            f"groups, {', '.join(PERIODS)} ({error})"
        ) from None
    if not isinstance(span, Span):
        raise InputError(f"coverage={span!r} is not a span; write 2025-01-01..2025-12-31")
    if not are_whole(np.array([span.lo]), np.array([span.hi]), folded.grain).all():
        raise InputError(
            f"coverage={span} is not made of whole {folded.grain}s, by which the data is dated"
        )
    _check_holds(span, folded)
    return span


def _check_holds(span: Span, folded: Folded) -> None:
    """Raise `InputError` where rows lie outside of a coverage that was given."""
    cells, axis = folded.cells, folded.cells.axis
    last = axis.last_day
    if folded.grain != "day":
        last = int(last_days(np.array([last]), folded.grain)[0])
    if span.lo <= axis.first_day and last <= span.hi:
        return
    said = "rows lie"
    if ROWS in cells.tallies:
        outside = cells.total(ROWS, axis.first_day, span.lo - 1)
        outside += cells.total(ROWS, span.hi + 1, last)
        said = f"{outside:,} row{' lies' if outside == 1 else 's lie'}"
    raise InputError(
        f"{folded.source}: {said} outside coverage={span}; the data runs from "
        f"{as_date(axis.first_day)} to {as_date(last)}. Widen the coverage, or narrow a question "
        f"with only="
    )


def _to_whole_periods(given: str, days: Span, calendars: Sequence[Calendar]) -> Span:
    """Return the whole periods that hold the first and the last day of the data."""
    level = PERIODS[given]
    if len({*calendars}) > 1:
        raise InputError(
            f"coverage={given!r} needs one calendar for all groups; give a span, such as {days}"
        )
    (calendar,) = {*calendars}
    if level not in calendar.levels:
        raise InputError(f"coverage={given!r}: calendar {calendar.name!r} has no {level}s")
    index = calendar.index_of(np.array([days.lo, days.hi]), level)
    return Span.of(
        int(calendar.first_days(index[:1], level)[0]), int(calendar.last_days(index[1:], level)[0])
    )


def _grown(folded: Folded, calendars: Sequence[Calendar], workdays: Workdays) -> Span:
    """Return the days of the data, and the days off right before and after them where the data
    has rows on workdays alone: a ledger that ends on Friday the 29th knows of the weekend that ends
    the month. It grows to the end of its month at most: of a month without a row nothing is known.
    """
    days = folded.days
    if folded.grain != "day" or (folded.left is not None and folded.left.rows):
        return days  # on which days the rows lie that a condition left out is not kept
    ends = np.array([days.lo, days.hi])
    lo = int(workdays.day_at(workdays.number(ends[:1]) - 1)[0]) + 1
    hi = int(workdays.day_at(workdays.number(ends[1:] + 1))[0]) - 1
    for calendar in calendars:
        level = "month" if "month" in calendar.levels else "year"
        if calendar.limits is not None and days not in calendar.limits:
            return days  # which is refused elsewhere
        index = calendar.index_of(ends, level)
        lo = max(lo, int(calendar.first_days(index[:1], level)[0]))
        hi = min(hi, int(calendar.last_days(index[1:], level)[0]))
    if lo >= days.lo and hi <= days.hi:
        return days
    if int(workdays.between(ends[:1], ends[1:])[0]) == days.days:
        return days  # no day off lies within: nobody knows what happens on these
    if not workdays.is_workday(folded.days_with_rows).all():
        return days
    return Span.of(min(lo, days.lo), max(hi, days.hi))
