"""Answers set wide: the groups of one column side by side, with all of them together at the end."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.calendars.days import LAST_DAY
from eptaro.core.query.coverage import GroupSpans
from eptaro.core.query.lineage import AcrossLineage, Side, TracedNumber, Value, ViewLineage
from eptaro.core.query.query import Query
from eptaro.core.query.totals import GroupSet, ReducedBook
from eptaro.core.query.view import View
from eptaro.core.results.column import Column
from eptaro.core.results.format import BLANK, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.periods import TOTAL, PeriodRows
from eptaro.errors import QuestionError, show_option

MOST_ACROSS = 4_000  # groups


def set_across(query: Any, ask: Callable[[Any], Result]) -> Result:
    """Return the answer with one column for each group and number, those of all groups last.

    `ask` answers the query as it is without `wide`. Raises `QuestionError` unless it is by one
    group column.
    """
    if query.order:
        raise QuestionError(f"{show_option('wide', True)} cannot be combined with sort")
    if getattr(query, "groups", None) is not None:
        raise QuestionError(f"{show_option('wide', True)} cannot be combined with groups")
    if query.every == "entry":
        raise QuestionError(
            f"{show_option('wide', True)} sets groups across, and a "
            "transaction has one; leave it out"
        )
    each = ask(replace(query, wide=False))
    answer = each.answer
    assert isinstance(answer, ViewLineage)
    if len(answer.by) != 1:
        raise QuestionError(
            f"{show_option('wide', True)} sets one group column across; name exactly one in by"
        )
    groups = answer.view.groups
    if groups.count > MOST_ACROSS:
        raise QuestionError(
            f"{show_option('wide', True)} sets {groups.count:,} groups "
            f"across, and {MOST_ACROSS:,} are the most; "
            f"narrow with only="
        )
    changed = {"top": None} if getattr(query, "top", None) is not None else {}
    whole = ask(replace(query, wide=False, by=None, **changed))
    total = whole.answer
    assert isinstance(total, ViewLineage)
    count = len(whole)
    first = next(at for at, column in enumerate(whole.columns) if column.name in total.numbers)
    before = whole.columns[:first]
    head = [
        column for column in before if _is_shared(column, each.column(column.name), groups.count)
    ]
    own = [c for c in each.columns if c.name not in answer.by]
    own = [c for c in own if c.name not in {column.name for column in head}]
    words = groups.columns(np.arange(groups.count))[0].to_list()
    titles_taken = {column.name for column in head} | {TOTAL}
    titles = [title_of(answer.by[0], word, titles_taken, blank=None in words) for word in words]
    columns, places = [*head], dict[str, tuple[int | None, str]]()
    for place, title in enumerate(titles):
        some = slice(place * count, (place + 1) * count)
        for column in own:
            name = _name(title, column, own)
            columns.append(_with_title(column.take(some), name, title))
            if column.name in answer.numbers:
                places[name] = place, column.name
    for column in own:
        if column.name in whole:
            name = _name(TOTAL, column, own)
            columns.append(_with_title(whole.column(column.name), name, TOTAL))
            if column.name in total.numbers:
                places[name] = None, column.name
    lineage = AcrossLineage(query, answer, total, places, count, np.arange(count), whole)
    return Result(columns, whole.meta | {"heads": [*places]}, lineage)


_DAYS = ("first", "last", "prior_first", "prior_last")
_WHOLE = ("complete", "comparable")


def levels_across(card: Result, query: Any, count: int) -> Result:
    """Return a card with one row per group and its levels and windows, `count` of them, across:
    their days and their numbers; a row is complete, and comparable, when all of them are.
    """
    answer = card.answer
    assert isinstance(answer, ViewLineage)
    groups = len(card) // count
    titles = card.column("level").to_list()[:count]
    calendars = card.column("calendar").to_list()[:count]
    if len({*calendars}) > 1:
        titles = [f"{calendar} {level}" for calendar, level in zip(calendars, titles, strict=True)]
    rows = np.arange(len(card)).reshape(groups, count)
    start = card.names.index("complete") + 1
    own = [c for c in card.columns if c.name in _DAYS]
    own += [c for c in card.columns[start:] if c.face is None or c.face.of]
    columns, places = [card.column(name).take(rows[:, 0]) for name in answer.by], {}
    for name in (name for name in _WHOLE if name in card):
        flags = card.column(name)
        every = np.asarray(flags.data[rows].all(axis=1))
        columns.append(replace(flags.take(rows[:, 0]), data=every))
    for place, title in enumerate(titles):
        for column in own:
            name = f"{title} {column.name}"
            face = column.face and replace(
                column.face,
                words=f"{title} {column.face.words}",
                of="",
                ends=f"{title} {column.face.ends}" if column.face.ends else "",
            )
            text = f"{column.name} of the {title}: {column.description}"
            columns.append(column.take(rows[:, place]).named(name, text, face))
            if column.name in answer.numbers:
                places[name] = place, column.name
    each = answer.take(rows.T.ravel())  # level by level, in each all groups
    lineage = AcrossLineage(
        query, each, answer, places, groups, np.arange(groups), card, tuple(answer.by)
    )
    return Result(columns, card.meta | {"heads": [*places]}, lineage)


def _name(title: str, column: Column, own: list[Column]) -> str:
    return title if len(own) == 1 else f"{title} {column.name}"


def _is_shared(of_all: Column, of_each: Column, groups: int) -> bool:
    """Return whether a column before the numbers is the same for every group; what labels rows is,
    and whether they are complete is said of all together.
    """
    if of_all.face is None or of_all.face.rank != Priority.BESIDE:
        return True
    return of_each.to_list() == of_all.to_list() * groups


def _with_title(column: Column, name: str, title: str) -> Column:
    """Return a column of a group under its name."""
    face = column.face and replace(column.face, words=f"{title} {column.face.words}", of="")
    return column.named(name, f"{column.name} of {title}: {column.description}", face)


def title_of(column: str, word: Any, titles_taken: set[str], *, blank: bool) -> str:
    """Return what a group's column is called; one that is called like another, or like the blank
    group where there is one, names its group.

    >>> title_of("route", "total", {"total"}, blank=False)
    'route=total'
    """
    title = BLANK if word is None else str(word)
    doubled = word is not None and title == BLANK and blank
    return f"{column}={title}" if title in titles_taken or doubled else title


def recap_across(view: View, rows: PeriodRows, query: Query, *, shares: bool) -> Result:
    """Return periods down and one column per group and measure across, the totals last; with
    shares, beside each what it has of its period, and beside the totals what that has of all.
    """
    if len(view.groups.names) != 1:
        raise QuestionError(
            f"{show_option('wide', True)} sets one group column across; name exactly one in by"
        )
    if view.groups.count > MOST_ACROSS:
        raise QuestionError(
            f"{show_option('wide', True)} sets {view.groups.count:,} groups "
            f"across, and {MOST_ACROSS:,} are the "
            f"most; narrow with only=, or keep the largest with top="
        )
    measures = view.facts.measures
    heads = view.groups.columns(np.arange(view.groups.count))[0].to_list()
    every, edge = view.global_value("names", GroupSet(view.groups)), _edge(view)
    blank = bool((every.groups.coded[view.groups.names[0]].codes < 0).any())
    head = [*rows.head(), rows.complete_of_all(edge)]
    titles_taken = {column.name for column in head} | {TOTAL}
    side = Side("days", rows.first, rows.last)
    numbers: dict[str, TracedNumber] = {}
    columns = [*head]
    titles = [title_of(view.groups.names[0], word, titles_taken, blank=blank) for word in heads]
    for source, place, title in [*((view, i, t) for i, t in enumerate(titles)), (edge, 0, TOTAL)]:
        group = np.full(len(rows), place)
        for measure in measures:
            column = source.value(measure, group, rows.first, rows.last)
            name = title if len(measures) == 1 else f"{title} {measure.name}"
            columns.append(column.named(name, f"{measure.name} of {title}: {measure.formula}"))
            numbers[name] = Value(source, measure, group, side)
            if shares and measure.additive_plane is not None:
                from eptaro.core.verbs.layouts.shares import share_column

                of = edge.value(measure, np.zeros_like(group), rows.first, rows.last).numbers()
                whole, text = (of[-1:], "of all") if source is edge else (of, "of its period")
                columns.append(share_column(f"{name} share", column.numbers(), whole, text, name))
    group = np.zeros(len(rows), np.int64)
    answer = ViewLineage(query, edge, group, numbers, total=rows.of_level(TOTAL))
    meta = view.meta("recap") | edge.describe_ties() | {"heads": [*numbers]}
    return Result(columns, meta, answer)


def _edge(view: View) -> View:
    """Return the same view of all groups added up to one, of which these may be some."""
    edge, facts, own = view.together(), view.facts, None
    if facts.spans is not None:
        lo, hi = facts.spans.onto(edge.places, 1, LAST_DAY)
        own = GroupSpans(lo, hi, facts.spans.asked)
    mine = ReducedBook(replace(facts.folded, groups=edge.groups, cells=edge.cells), own)
    overall = view.global_value("all groups", mine)
    if overall is mine:
        return edge
    every = replace(facts, folded=overall.folded, spans=overall.own)
    return replace(edge, facts=every, cells=overall.folded.cells, places=np.zeros(1, np.int64))
