"""Answers in the own calendars of groups, set together.

A book of several companies answers a question once for each calendar, over the groups
that keep it, and sets the answers together; every row is labelled in its own calendar.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import Any, Concatenate, ParamSpec, cast

import numpy as np

from eptaro.core.folds.groups import Groups
from eptaro.core.questions.answer import Answered, InParts
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.questions.scope import EVERY, group_names
from eptaro.core.questions.view import Facts
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import join
from eptaro.core.tables.face import Face, Rank
from eptaro.core.tables.table import Table
from eptaro.errors import NothingLeftError, QuestionError

Options = ParamSpec("Options")
_BESIDE = ("wide", "top", "shares", "ranks")  # set groups beside each other: need one calendar
_ONE = "book.using(calendar), or --calendar NAME"


def in_own_calendars(
    verb: Callable[Concatenate[Facts, Options], Table],
) -> Callable[Concatenate[Facts, Options], Table]:
    """Return a verb that answers in each group's own calendar, where a book has several."""

    @wraps(verb)
    def answer(self: Facts, /, *args: Options.args, **options: Options.kwargs) -> Table:
        if self.own is None:
            return verb(self, *args, **options)
        names = check_in_parts(self.own, self.groups.names, options)
        sort: Any = options.get("sort")
        if sort is not None:  # the rows of all calendars, once they are together
            options["sort"] = None
        tables: dict[str, Table] = {}
        left = None
        for part in self.in_parts():
            try:
                tables[part.calendar.name] = verb(part, *args, **options)
            except NothingLeftError as error:
                left = error
        if not tables and left is not None:
            raise left
        found = _together(self, tables, names)
        return found if sort is None else found.sorted(sort)

    return cast(Callable[Concatenate[Facts, Options], Table], answer)


def check_in_parts(
    own: OwnCalendars, known: Sequence[str], options: Mapping[str, Any]
) -> list[str]:
    """Return the group columns asked for, of those known; raises `QuestionError` for what needs one
    calendar.
    """
    names = group_names(options.get("by"))
    if names == [EVERY] and EVERY not in known:
        names = [*known]
    if own.column not in names:
        raise QuestionError(
            f"each {own.column} keeps its own calendar: group by it, or ask in one calendar "
            f"({_ONE})"
        )
    for option in _BESIDE:
        if options.get(option):
            raise QuestionError(
                f"{option} sets groups beside each other, which needs one calendar: {_ONE}"
            )
    return names


def _together(book: Facts, tables: Mapping[str, Table], names: list[str]) -> Table:
    """Return the answers of all calendars as one table, in the order of the groups."""
    assert book.own is not None
    parts = [_labelled(table, name, names) for name, table in tables.items()]
    joined = [join(list(same)) for same in zip(*parts, strict=True)]
    head = next(iter(tables.values()))
    meta = head.meta | {"calendar": book.own.describe()}
    if "tie_out" in meta:
        meta["tie_out"] = {
            f"{name} in {calendar}": text
            for calendar, part in tables.items()
            for name, text in part.meta["tie_out"].items()
        }
    answers = [table.answer for table in tables.values()]
    table = Table(joined, meta, InParts.of([a for a in answers if isinstance(a, Answered)]))
    if "row" in table:
        return table.sorted("row")
    rank = {key: place for place, key in enumerate(_keys(book.groups.onto(names)[0]))}
    order = [rank[key] for key in zip(*(table.column(n).to_list() for n in names), strict=True)]
    return table.take(np.argsort(np.array(order), kind="stable"))


def _labelled(table: Table, calendar: str, names: list[str]) -> list[Column]:
    """Return a part's columns with the name of its calendar after the groups."""
    columns = table.columns
    if "calendar" in table:
        return columns
    words = Column.text(
        "calendar",
        np.array([calendar]),
        np.zeros(len(table), np.int64),
        face=Face("calendar", Rank.KEY),
        description="The calendar that the row goes by",
    )
    at = max(columns.index(table.column(group)) for group in names) + 1
    return [*columns[:at], words, *columns[at:]]


def _keys(groups: Groups) -> list[tuple[Any, ...]]:
    columns = groups.columns(np.arange(groups.count))
    return [*zip(*(column.to_list() for column in columns), strict=True)]
