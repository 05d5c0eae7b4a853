"""Choosing the kind of picture for a table, and drawing it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from eptaro.core.query.query import Query
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.core.results.format import escape_controls
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import (
    Accumulate,
    Card,
    Compare,
    Histogram,
    Recap,
    Rhythm,
    Spread,
    Trail,
)
from eptaro.errors import QuestionError, show_option, unknown
from eptaro.plots.bars import draw_against, draw_attribute, draw_boxes, draw_card, draw_histogram
from eptaro.plots.changes import draw_changes, draw_steps
from eptaro.plots.groups import group_names
from eptaro.plots.heatmaps import draw_heat, draw_sheet
from eptaro.plots.page import Page
from eptaro.plots.series import Form, draw_periods, draw_trailing
from eptaro.plots.theme import PictureOptions
from eptaro.plots.todate import draw_day_by_day, draw_to_date

Drawer = Callable[[Result, Page, Sequence[str]], None]
Drawers = dict[str, Drawer]

_MOST_MEASURES = 4
_FORMS: tuple[Form, ...] = ("bars", "lines", "areas", "dots")
_OF_ANY: Drawers = {"bars": draw_attribute, "heat": draw_heat}  # what asks nothing of the verb


def kinds_of(table: Result) -> Drawers:
    """Return the pictures that a table can be drawn as, the most fitting first."""
    if table.answer is None or "row" in table or not len(table):
        return {}
    groups = group_names(table)
    match table.answer.question:
        case Recap(wide=True) | Recap(across="year"):
            return {}
        case Accumulate(wide=True) | Trail(wide=True) | Compare(wide=True):
            return {}
        case Recap(per=per) if "period" in table:
            sheet: Drawers = {"sheet": draw_sheet} if per == "day" and not groups else {}
            return {form: partial(draw_periods, form=form) for form in _FORMS} | sheet
        case Recap():
            return {"bars": draw_attribute}
        case Rhythm(across=across):
            return {"heat": draw_heat} if across else {"bars": draw_attribute}
        case Accumulate():
            days: Drawers = {"sheet": draw_sheet} if "date" in table and not groups else {}
            return {"lines": draw_to_date} | days
        case Trail():
            return {form: partial(draw_trailing, form=form) for form in _FORMS[1:]}
        case Compare() as query:
            return _of_comparison(table, query)
        case Card():
            return {"bars": draw_card}
        case Spread():
            return {"boxes": draw_boxes}
        case Histogram():
            return {"histogram": draw_histogram}
        case Query() as other:
            return {kind: _OF_ANY[kind] for kind in other.pictures}
        case _:
            return {}


def _of_comparison(table: Result, query: Compare) -> Drawers:
    """Return the pictures of a comparison; of several prior periods side by side there is none."""
    if len(query.backs) > 1:
        return {}
    if query.every is not None:
        return {"lines": draw_day_by_day}
    bars: Drawers = {"bars": draw_against}
    if not group_names(table):
        return bars
    changes: Drawers = {"changes": draw_changes, "steps": draw_steps}
    one = query.to_date and len(set(table.column("period").to_list())) == 1
    return changes | bars if one else bars | changes


def draw(table: Result, look: PictureOptions) -> Page:
    """Return the picture of a table, by default of the kind that suits its verb best.

    Raises `QuestionError` for one that cannot be drawn, or not as the kind asked for.
    """
    kinds = kinds_of(table)
    if not kinds or table.answer is None:
        raise QuestionError(f"this table has no picture: {_reason_for_none(table)}")
    if look.kind is not None and look.kind not in kinds:
        raise QuestionError(unknown("kind of picture for this table", look.kind, kinds))
    table = _printable(_in_time_order(table))
    measures = _measures(table, look.measure)
    drawer = kinds[look.kind] if look.kind else next(iter(kinds.values()))
    page = Page(table, look)
    drawer(table, page, measures)
    page.finish()
    return page


def _reason_for_none(table: Result) -> str:
    if not len(table):
        return "it has no rows"
    query = None if table.answer is None else table.answer.question
    for option, value in (("wide", True), ("across", "year")):
        if getattr(query, option, None) == value:
            return f"leave {show_option(option, value)} out"
    if isinstance(query, Compare) and len(query.backs) > 1:
        return "give one prior period, not several"
    return "the answers of verbs have, but for rows of single transactions"


def _in_time_order(table: Result) -> Result:
    """Return the rows in the order of time where lines run along it, however they were sorted."""
    query = table.answer.question if table.answer is not None else None
    if not isinstance(query, Accumulate | Trail | Compare) or not query.order:
        return table
    if isinstance(query, Compare) and query.every is None:
        return table
    days = table.column("date" if "date" in table else "last").data
    return table.take(np.argsort(days, kind="stable"))


def _printable(table: Result) -> Result:
    """Return a table whose texts have their control characters written out: no font has these, and
    SVG may not hold them.
    """
    columns = [_printable_column(column) for column in table.columns]
    changed = any(one is not two for one, two in zip(columns, table.columns, strict=True))
    return Result(columns, table.meta, table.answer) if changed else table


def _printable_column(column: Column) -> Column:
    if column.kind != "text" or column.choices is None:
        return column
    words = [str(word) for word in column.choices]
    printable = [escape_controls(word) for word in words]
    if printable == words:
        return column
    return replace(column, choices=np.array([*printable, ""], object)[:-1])


def _measures(table: Result, only: str | None) -> list[str]:
    """Return the measures to draw: the one that is named, or all that are numbers."""
    assert table.answer is not None
    names_known = table.answer.measures
    if only is not None and only not in names_known:
        raise QuestionError(unknown("measure", only, names_known))
    names = [only] if only is not None else list(names_known)
    numbers = [name for name in names if not _is_text(table, name)]
    if not numbers:
        raise QuestionError(f"{', '.join(names)}: only numbers can be drawn")
    return numbers[:_MOST_MEASURES]


def _is_text(table: Result, name: str) -> bool:
    columns = [c for c in (name, f"{name}_to_date", f"{name}_trailing") if c in table]
    return any(table.column(column).kind in NO_NUMBERS for column in columns)
