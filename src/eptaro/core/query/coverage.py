"""Coverage: the days that the data covers, for all groups together or for each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal, TypeAlias

import numpy as np

from eptaro.core.aggregation.cells import ROWS
from eptaro.core.aggregation.folded import Folded
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, Ints
from eptaro.core.calendars.grain import are_whole, first_days, plural_of
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.query.query import ADJUSTMENT
from eptaro.errors import DateError, InputError
from eptaro.record import record

GROUPS: Literal["groups"] = "groups"
GivenSpans: TypeAlias = 'Literal["groups"] | Mapping[Any, Span]'
Coverage: TypeAlias = "Span | str | Mapping[Any, Span | str] | None"


def asked_by_group(coverage: Coverage) -> GivenSpans | None:
    """Return a coverage that goes by groups, or None for one that is common to all.

    Raises `InputError` for a span that is none.
    """
    if isinstance(coverage, Mapping):
        return {key: _span(key, given) for key, given in coverage.items()}
    return GROUPS if isinstance(coverage, str) and coverage == GROUPS else None


@record
class GroupSpans:
    """First and last day of each group of a book, and how that was asked for."""

    lo: Ints
    hi: Ints
    asked: GivenSpans

    def onto(self, places: Ints, count: int, last: int) -> tuple[Ints, Ints]:
        """Return the first and last day of groups put together, none after a last day.

        `places` is `(n_groups,)`, the results are `(count,)`.

        `places` is the new place of each group, -1 where it is left out.
        """
        mapped = places >= 0
        lo, hi = np.full(count, np.iinfo(np.int64).max), np.full(count, FIRST_DAY, np.int64)
        np.minimum.at(lo, places[mapped], self.lo[mapped])
        np.maximum.at(hi, places[mapped], self.hi[mapped])
        return lo, np.minimum(hi, last)


def _span(key: object, coverage: object) -> Span:
    try:
        span = Span.parse(coverage) if isinstance(coverage, str) else coverage
    except DateError as error:
        raise InputError(f"coverage of {key!r}: {error}") from None
    if not isinstance(span, Span):
        raise InputError(
            f"coverage of {key!r}: {coverage!r} is not a span; write 2025-01-01..2025-12-31"
        )
    return span


def group_spans(
    query: GivenSpans, folded: Folded, coverage: Span, *, part: bool = False
) -> GroupSpans:
    """Return the coverage of each group: from its first transaction to the end of all, or a span
    for each of its values (of several group columns, a tuple of values); the groups may be a
    `part` of all.

    Raises `InputError` where a group has transactions outside its span, or a span has no group.
    """
    first, last = _ends_of_groups(folded)
    if isinstance(query, str):
        return GroupSpans(first, np.full(len(first), coverage.hi), query)
    keys = _places_by_key(folded)
    lo, hi = first.copy(), np.full(len(first), coverage.hi)
    for key, span in query.items():
        words = tuple(map(str, key)) if isinstance(key, tuple) else (str(key),)
        if words not in keys:
            if part:
                continue
            examples = ", ".join(" ".join(key) for key in [*keys][:5])
            raise InputError(f"coverage: there is no group {key!r}; there are {examples}")
        at = keys[words]
        if not are_whole(np.array([span.lo]), np.array([span.hi]), folded.grain).all():
            raise InputError(
                f"coverage of {key!r}: {span} is not made of whole {plural_of(folded.grain)}, by "
                f"which the data is dated"
            )
        ends = Span.of(int(first[at].min()), int(last[at].max()))
        if not (span.lo <= ends.lo and ends.hi <= span.hi):
            raise InputError(
                f"coverage of {key!r}: {span} leaves out some of its transactions, which run from "
                f"{ends}"
            )
        lo[at], hi[at] = span.lo, span.hi
    return GroupSpans(lo, hi, query)


def widen_coverage(query: GivenSpans | None, coverage: Span) -> Span:
    """Return a coverage that holds the spans of all groups as well."""
    if not isinstance(query, Mapping):
        return coverage
    ends = [coverage, *query.values()]
    return Span.of(min(span.lo for span in ends), max(span.hi for span in ends))


def merged_coverage(one: GroupSpans | None, two: GroupSpans | None) -> GivenSpans:
    """Return what the coverage of two merged books goes by; raises `InputError` where it differs.

    Spans given for groups hold for both; a group that both name keeps the days of both.
    """
    if one is None or two is None or (one.asked == GROUPS) != (two.asked == GROUPS):
        raise InputError("only one of the books has a coverage by groups from first transactions")
    if isinstance(one.asked, str) or isinstance(two.asked, str):
        return GROUPS
    merged = dict(one.asked)
    for key, span in two.asked.items():
        ends = [merged.get(key, span), span]
        merged[key] = Span.of(min(s.lo for s in ends), max(s.hi for s in ends))
    return merged


def _ends_of_groups(folded: Folded) -> tuple[Ints, Ints]:
    """Return the first and last day on which each group has transactions."""
    cells = folded.cells
    group, day = cells.axis.cells_of()
    places = np.arange(cells.axis.size)
    filled = np.flatnonzero(cells.sums(ROWS, places, places + 1).data > 0)
    first = np.full(folded.groups.count, np.iinfo(np.int64).max)
    last = np.full(folded.groups.count, FIRST_DAY, np.int64)
    np.minimum.at(first, group[filled], first_days(day[filled], folded.grain))
    np.maximum.at(last, group[filled], day[filled])
    return first, last


def _places_by_key(folded: Folded) -> dict[tuple[str, ...], Ints]:
    """Return the places of the groups of each key; adjustment periods share the coverage."""
    every = folded.groups.columns(np.arange(folded.groups.count))
    columns = [column.to_list() for column in every if column.name != ADJUSTMENT]
    words = zip(*columns, strict=True) if columns else [()] * folded.groups.count
    places_by_name: dict[tuple[str, ...], list[int]] = {}
    for at, key in enumerate(words):
        key_words = tuple("(blank)" if value is None else str(value) for value in key)
        places_by_name.setdefault(key_words, []).append(at)
    return {key: np.array(places) for key, places in places_by_name.items()}


# What `coverage` may be called where the data is whole to the ends of its periods.
WHOLE_PERIODS = {f"{level}s": level for level in ("year", "quarter", "month", "week")} | {
    "halves": "half"
}


def resolve_coverage(
    coverage: Coverage, folded: Folded, calendars: Sequence[Calendar], workdays: Workdays
) -> Span:
    """Return the coverage given, which must hold all the data, or that of the data, of rows that
    a condition left out as well.

    Raises `InputError` for a coverage that is no span, and where rows lie outside.
    """
    if coverage is None:
        return _extend_over_days_off(folded, calendars, workdays)
    if isinstance(coverage, str) and coverage.strip() in WHOLE_PERIODS:
        return _to_whole_periods(coverage.strip(), folded.days, calendars)
    try:
        span = Span.parse(coverage) if isinstance(coverage, str) else coverage
    except DateError as error:
        raise InputError(
            f"coverage={coverage!r} is not a span such as 2025-01-01..2025-12-31, "
            "and not one of "
            f"groups, {', '.join(WHOLE_PERIODS)} ({error})"
        ) from None
    if not isinstance(span, Span):
        raise InputError(f"coverage={span!r} is not a span; write 2025-01-01..2025-12-31")
    if not are_whole(np.array([span.lo]), np.array([span.hi]), folded.grain).all():
        raise InputError(
            f"coverage={span} is not made of whole {plural_of(folded.grain)}, by which the data is "
            f"dated"
        )
    _check_holds(span, folded)
    return span


def _check_holds(span: Span, folded: Folded) -> None:
    """Raise `InputError` where rows lie outside of a coverage that was given."""
    cells, axis = folded.cells, folded.cells.axis
    days = folded.days if folded.seen is None else replace(folded, seen=None).days
    if span.lo <= days.lo and days.hi <= span.hi:
        return
    message = "rows lie"
    if ROWS in cells.tallies:
        outside = cells.total(ROWS, axis.first_day, span.lo - 1)
        outside += cells.total(ROWS, span.hi + 1, axis.last_day)
        message = f"{outside:,} row{' lies' if outside == 1 else 's lie'}"
    raise InputError(
        f"{folded.source}: {message} outside coverage={span}; the data runs from "
        f"{days.first} to {days.last}. Widen the coverage, or narrow a question "
        f"with only="
    )


def _to_whole_periods(how: str, days: Span, calendars: Sequence[Calendar]) -> Span:
    """Return the whole periods that hold the first and the last day of the data."""
    level = WHOLE_PERIODS[how]
    if len({*calendars}) > 1:
        raise InputError(
            f"coverage={how!r} needs one calendar for all groups; give a span, such as {days}"
        )
    (calendar,) = {*calendars}
    if level not in calendar.levels:
        raise InputError(f"coverage={how!r}: calendar {calendar.name!r} has no {level}s")
    index = calendar.index_of(np.array([days.lo, days.hi]), level)
    return Span.of(
        int(calendar.first_days(index[:1], level)[0]), int(calendar.last_days(index[1:], level)[0])
    )


def _extend_over_days_off(
    folded: Folded, calendars: Sequence[Calendar], workdays: Workdays
) -> Span:
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
