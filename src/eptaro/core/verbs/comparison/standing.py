"""`compare(groups="both")`: the change like for like, and that of new and closed groups."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import ROWS
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import Amount, check_level
from eptaro.core.query.coverage import GROUPS
from eptaro.core.query.lineage import DayMatching, InParts, ViewLineage
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, join_columns
from eptaro.core.results.format import BLANK, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.comparison.compare import compare_sides, sides_of
from eptaro.core.verbs.comparison.sides import Sides
from eptaro.core.verbs.periods import TOTAL
from eptaro.core.verbs.queries import Compare
from eptaro.errors import QuestionError, show_option

LIKE_FOR_LIKE, NEW, CLOSED = "like for like", "new", "closed"
_WORDS = np.array([LIKE_FOR_LIKE, NEW, CLOSED, TOTAL])
_LIKE, _NEW, _CLOSED, _TOTAL = range(4)
_NAMED = 20  # groups in one row
_MOST_PERIODS = 4_000


def like_for_like(facts: BookData, query: Compare) -> Result:
    """Return for each period the groups that both sides have, those that are new, those that were
    closed, and all of them; the changes of the first three add up to that of all.

    Where groups have a coverage of their own, both sides have a group whose coverage holds both
    whole, and a group without transactions from the current side on is closed, unless its coverage
    was declared; else both have a group with transactions on either, or, where a measure has
    balances, with transactions up to either's end. With `history`, a group that began later than
    so long before the current side is new. A period that cannot be compared has the row of all
    groups alone.
    """
    check_level(query.per, facts.calendar.levels)
    query.check()
    view = facts.view(query.by, query.only, query.as_of)
    if not view.groups.names:
        raise QuestionError(f"{show_option('groups', 'both')} compares groups; name a column in by")
    now, (prior,), pairing = sides_of(view, query)
    if len(now) > _MOST_PERIODS:
        raise QuestionError(
            f"{show_option('groups', 'both')} looks at {len(now):,} periods, "
            f"and {_MOST_PERIODS:,} are the most; "
            f"narrow with only="
        )
    standing = classify_groups(view, now, prior)
    if query.history is not None:
        young = began_after(view, query.history, now)
        standing = np.where((standing == _LIKE) & young, _NEW, standing)
    every = np.full(view.groups.count, _TOTAL)
    tables = [_rows_of_standings(view, query, (now, prior), every, pairing)]
    at = [np.arange(len(now))]
    for pattern, places in _group_by_standings(standing):
        if (pattern >= 0).any():
            some = now.at(places), prior.at(places)
            tables.append(_rows_of_standings(view, query, some, pattern, pairing))
            at.append(np.tile(places, len(np.unique(pattern[pattern >= 0]))))
    order = np.lexsort([_codes(tables), np.concatenate(at)])
    columns = [join_columns(list(same)) for same in zip(*(t.columns for t in tables), strict=True)]
    answers = [table.answer for table in tables]
    lineage = InParts.of([answer for answer in answers if isinstance(answer, ViewLineage)])
    return Result(columns, tables[0].meta, lineage).take(order)


def classify_groups(view: View, now: Sides, prior: Sides) -> Ints:
    """Return the standing of each group in each comparison, `(n_sides, n_groups) int`; -1 where it
    is in none of the sides, and where they cannot be compared.
    """
    groups, count = view.groups.count, len(now)
    group = np.repeat(np.arange(groups), count)

    def seen(first: Ints, last: Ints) -> NDArray[np.bool_]:
        first, last = np.tile(first, groups), np.tile(last, groups)
        lo, hi = view.cells.axis.bounds(group, first, last)
        classes: NDArray[np.bool_] = view.cells.sums(ROWS, lo, hi).data > 0
        return classes.reshape(groups, count).T

    carried = any(measure.has_balances for measure in view.facts.measures)
    start = np.full(count, view.coverage.lo)  # balances are there from an account's first row on
    here, before = (seen(start if carried else side.first, side.last) for side in (now, prior))
    spans = view.facts.spans
    if view.own is None or spans is None:
        classes = np.where(
            here & before, _LIKE, np.where(here, _NEW, np.where(before, _CLOSED, -1))
        )
    else:
        lo, hi = view.own
        opened, ended = prior.first[:, None] < lo, now.last[:, None] > hi
        if spans.asked == GROUPS and not carried:  # which says when groups begin, not when they end
            ended |= ~seen(now.first, np.full(count, view.coverage.hi))
        met = here | before
        classes = np.where(ended, np.where(met, _CLOSED, -1), np.where(opened, _NEW, _LIKE))
        classes = np.where(opened & (now.last[:, None] < lo), -1, classes)
    fair = view.complete(now.first, now.last) & view.complete(prior.first, prior.last)
    return np.where((fair & now.exists & prior.exists)[:, None], classes, -1)


def began_after(view: View, history: str, now: Sides) -> NDArray[np.bool_]:
    """Return which groups have less history than an amount of time before each current side,
    `(n_sides, n_groups) bool`: their first transaction comes later than so long before its first
    day.
    """
    amount = Amount.of_levels(history, "history")
    least, _ = view.calendar.move_days(now.first, -amount.n, amount.unit)
    group, day = view.cells.axis.cells_of()
    places = np.arange(len(day))
    filled = view.cells.sums(ROWS, places, places + 1).data > 0
    first = np.full(view.groups.count, np.iinfo(np.int64).max)
    np.minimum.at(first, group[filled], day[filled])
    flags: NDArray[np.bool_] = first[None, :] > least[:, None]
    return flags


def _group_by_standings(standing: Ints) -> list[tuple[Ints, Ints]]:
    """Return each list of standings that occurs, and the comparisons that have it.

    `standing` is `(n_comparisons, n_groups)`.
    """
    patterns, which = np.unique(standing, axis=0, return_inverse=True)
    which = which.reshape(-1)
    return [(pattern, np.flatnonzero(which == at)) for at, pattern in enumerate(patterns)]


def _rows_of_standings(
    view: View,
    query: Compare,
    sides: tuple[Sides, Sides],
    pattern: Ints,
    pairing: DayMatching | None,
) -> Result:
    """Return the comparison of groups put together by their standing.

    `pattern`, the standing of each group, is `(n_groups,)`.
    """
    codes = np.unique(pattern[pattern >= 0])
    target = np.where(pattern < 0, -1, np.searchsorted(codes, pattern))
    word = Column.text("standing", _WORDS)
    groups = Groups({"standing": Categorical(codes.astype(np.int32), word)}, len(codes))
    put = view.regroup(target, groups)
    put = replace(put, facts=replace(put.facts, spans=None))  # all sides lie in its coverage
    table = compare_sides(put, query, sides[0], [sides[1]], pairing)
    answer = table.answer
    assert isinstance(answer, ViewLineage)
    place = np.asarray(answer.group)
    sizes = np.bincount(target[target >= 0], minlength=len(codes))
    listed = [_list_groups(view.groups, np.flatnonzero(target == at)) for at in range(len(codes))]
    total = codes[place] == _TOTAL
    extra = [
        Column.of(
            "groups",
            "integer",
            sizes[place],
            unit="groups",
            description="How many groups they are",
            face=DisplayHint("groups", Priority.BESIDE),
        ),
        Column.text(
            "named",
            np.array(listed),
            np.where(total, -1, place),
            description="Which groups they are",
            face=DisplayHint("named", Priority.DETAIL),
        ),
    ]
    own = [column for column in table.columns if column.name != "standing"]
    head = table.column("standing").named("standing", "Whether the groups are on both sides", _KEY)
    return Result([head, *extra, *own], table.meta, replace(answer, total=total))


_KEY = DisplayHint("standing", Priority.KEY)


def _list_groups(groups: Groups, places: Ints) -> str:
    """Return the names of some groups. `places` is `(n,)`."""
    columns = [column.to_list() for column in groups.columns(places[:_NAMED])]
    words = [
        " / ".join(BLANK if value is None else str(value) for value in key)
        for key in zip(*columns, strict=True)
    ]
    more = len(places) - len(words)
    return ", ".join(words) + (f" and {more:,} more" if more > 0 else "")


def _codes(tables: list[Result]) -> Ints:
    rank = {str(word): at for at, word in enumerate(_WORDS)}
    words = [word for table in tables for word in table.column("standing").to_list()]
    return np.array([rank[word] for word in words], np.int64)
