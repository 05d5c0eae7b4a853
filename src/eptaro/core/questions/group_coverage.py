"""What the data covers group by group: from each one's first transaction, or as is said."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

import numpy as np

from eptaro.core.calendars.days import FIRST_DAY, Ints
from eptaro.core.calendars.grain import are_whole
from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.planes import ROWS
from eptaro.errors import DateError, InputError

GROUPS: Literal["groups"] = "groups"
Asked: TypeAlias = 'Literal["groups"] | Mapping[Any, Span]'
Coverage: TypeAlias = "Span | str | Mapping[Any, Span | str] | None"


def asked_by_group(coverage: Coverage) -> Asked | None:
    """Return a coverage that goes by groups, or None for one that is common to all.

    Raises `InputError` for a span that is none.
    """
    if isinstance(coverage, Mapping):
        return {key: _span(key, given) for key, given in coverage.items()}
    return GROUPS if isinstance(coverage, str) and coverage == GROUPS else None


@dataclass(frozen=True, eq=False)
class GroupSpans:
    """First and last day of each group of a book, and how that was asked for."""

    lo: Ints
    hi: Ints
    asked: Asked

    def onto(self, places: Ints, count: int, last: int) -> tuple[Ints, Ints]:
        """Return the first and last day of groups put together, none after a last day.

        `places` is the new place of each group, -1 where it is left out.
        """
        kept = places >= 0
        lo, hi = np.full(count, np.iinfo(np.int64).max), np.full(count, FIRST_DAY, np.int64)
        np.minimum.at(lo, places[kept], self.lo[kept])
        np.maximum.at(hi, places[kept], self.hi[kept])
        return lo, np.minimum(hi, last)


def _span(key: object, given: object) -> Span:
    try:
        span = Span.parse(given) if isinstance(given, str) else given
    except DateError as error:
        raise InputError(f"coverage of {key!r}: {error}") from None
    if not isinstance(span, Span):
        raise InputError(
            f"coverage of {key!r}: {given!r} is not a span; write 2025-01-01..2025-12-31"
        )
    return span


def group_spans(asked: Asked, folded: Folded, coverage: Span, *, part: bool = False) -> GroupSpans:
    """Return the coverage of each group: from its first transaction to the end of all, or a span
    for each of its values (of several group columns, a tuple of values); the groups may be a
    `part` of all.

    Raises `InputError` where a group has transactions outside its span, or a span has no group.
    """
    first, last = _ends(folded)
    if isinstance(asked, str):
        return GroupSpans(first, np.full(len(first), coverage.hi), asked)
    keys = _keys(folded)
    lo, hi = first.copy(), np.full(len(first), coverage.hi)
    for key, span in asked.items():
        words = tuple(map(str, key)) if isinstance(key, tuple) else (str(key),)
        if words not in keys:
            if part:
                continue
            shown = ", ".join(" ".join(one) for one in [*keys][:5])
            raise InputError(f"coverage: there is no group {key!r}; there are {shown}")
        at = keys[words]
        if not are_whole(np.array([span.lo]), np.array([span.hi]), folded.grain).all():
            raise InputError(
                f"coverage of {key!r}: {span} is not made of whole {folded.grain}s, by which the "
                f"data is dated"
            )
        if not (span.lo <= first[at] and last[at] <= span.hi):
            raise InputError(
                f"coverage of {key!r}: {span} leaves out some of its transactions, which run from "
                f"{Span.of(int(first[at]), int(last[at]))}"
            )
        lo[at], hi[at] = span.lo, span.hi
    return GroupSpans(lo, hi, asked)


def widened(asked: Asked | None, coverage: Span) -> Span:
    """Return a coverage that holds the spans of all groups as well."""
    if not isinstance(asked, Mapping):
        return coverage
    ends = [coverage, *asked.values()]
    return Span.of(min(span.lo for span in ends), max(span.hi for span in ends))


def merged_coverage(one: GroupSpans | None, two: GroupSpans | None) -> Asked:
    """Return what the coverage of two merged books goes by; raises `InputError` where it differs.

    Spans given for groups hold for both; a group that both name keeps the days of both.
    """
    if one is None or two is None or (one.asked == GROUPS) != (two.asked == GROUPS):
        raise InputError("only one of the books has a coverage by groups from first transactions")
    if isinstance(one.asked, str) or isinstance(two.asked, str):
        return GROUPS
    found = dict(one.asked)
    for key, span in two.asked.items():
        ends = [found.get(key, span), span]
        found[key] = Span.of(min(s.lo for s in ends), max(s.hi for s in ends))
    return found


def _ends(folded: Folded) -> tuple[Ints, Ints]:
    """Return the first and last day on which each group has transactions."""
    cells = folded.cells
    group, day = cells.axis.cells_of()
    places = np.arange(cells.axis.size)
    filled = np.flatnonzero(cells.sums(ROWS, places, places + 1).data > 0)
    first = np.full(folded.groups.count, np.iinfo(np.int64).max)
    last = np.full(folded.groups.count, FIRST_DAY, np.int64)
    np.minimum.at(first, group[filled], day[filled])
    np.maximum.at(last, group[filled], day[filled])
    return first, last


def _keys(folded: Folded) -> dict[tuple[str, ...], int]:
    columns = [c.to_list() for c in folded.groups.columns(np.arange(folded.groups.count))]
    words = zip(*columns, strict=True) if columns else [()]
    return {
        tuple("(blank)" if value is None else str(value) for value in key): at
        for at, key in enumerate(words)
    }
