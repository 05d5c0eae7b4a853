"""Bars: periods or values of an attribute, histograms, and comparisons with the prior period."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.core.verbs.compare.options import Compare
from eptaro.core.verbs.recap import Recap
from eptaro.core.verbs.spread import Histogram
from eptaro.pictures.asked import asked_of, group_names
from eptaro.pictures.groups import panels_of
from eptaro.pictures.page import Page, marked, numbered
from eptaro.pictures.style import ACCENT, COOL, INK, SOFT, WARM
from eptaro.pictures.words import compact, thinned

_LABELLED = 16  # bars that have room for their figure


def draw_bars(table: Table, path: str | Path, name: str) -> Path:
    """Draw one bar per period or attribute value; unfinished periods are hatched."""
    key = key_of(table)
    table = _parts_alone(table)
    column = table.column(name)
    labels = table.column(key).to_list()
    span = f"{labels[0]} to {labels[-1]}" if len(set(labels)) > 1 else str(labels[0])
    asked = None if table.answer is None else table.answer.question
    of = asked.per if isinstance(asked, Recap) and key == "period" else key.replace("_", " ")
    page = Page(table, f"{name} by {of}, {span}", _below(table, column))
    for axes, part in panels_of(page, table, name):
        _draw(axes, part, key, name)
    return page.save(path)


def key_of(table: Table) -> str:
    """Return the column that rows go by."""
    if "period" in table:
        return "period"
    names = [c.name for c in table.columns if c.kind == "text" and c.name not in group_names(table)]
    return names[0] if names else "from"


def _below(table: Table, column: Column) -> str:
    text = column.description
    if "complete" in table and not all(table.column("complete").to_list()):
        text += "; hatched: not a whole period inside the days that are known"
    return text


def _parts_alone(table: Table) -> Table:
    """Return the rows without totals and subtotals, which would dwarf their parts."""
    keep = np.ones(len(table), bool)
    if "period" in table:
        keep &= np.array([label != "total" for label in table.column("period").to_list()])
    if "level" in table:
        per = asked_of(table, Recap).per
        keep &= np.array([level == per for level in table.column("level").to_list()])
    return table if keep.all() else table.take(np.flatnonzero(keep))


def _draw(axes: Any, part: Table, key: str, name: str) -> None:
    column = part.column(name)
    values = column.numbers()
    x = np.arange(len(values))
    whole = np.ones(len(values), bool)
    if "complete" in part:
        whole = np.array(part.column("complete").to_list(), bool)
    height = np.nan_to_num(values)
    axes.bar(x[whole], height[whole], width=0.78, color=ACCENT)
    axes.bar(
        x[~whole],
        height[~whole],
        width=0.78,
        facecolor=COOL,
        edgecolor=ACCENT,
        hatch="////",
        lw=0.8,
    )
    blank = np.isnan(values)
    axes.plot(x[blank], np.zeros(blank.sum()), "x", color=SOFT, ms=4, clip_on=False)
    axes.axhline(0, color=SOFT, lw=0.8)
    room = axes.get_position().width * 1280
    labels = [str(label) for label in part.column(key).to_list()]
    places = thinned(labels, room)
    marked(axes, places, [labels[i] for i in places], *bar_edges(len(labels)))
    numbered(axes, column)
    if len(values) <= _LABELLED and room / len(values) > 50:
        for at, value in zip(x[~blank], values[~blank], strict=True):
            axes.annotate(
                compact(value, column),
                (at, value),
                ha="center",
                size=8.5,
                color=INK,
                va="bottom" if value >= 0 else "top",
                xytext=(0, 3 if value >= 0 else -3),
                textcoords="offset points",
            )
        axes.margins(y=0.12)


def bar_edges(count: int) -> tuple[float, float]:
    """Return where an axis of bars begins and ends; few bars do not fill it."""
    spare = max(5 - count, 0) / 2
    return -0.6 - spare, count - 0.4 + spare


def draw_against(table: Table, path: str | Path, name: str) -> Path:
    """Draw each period's value as a bar, the prior one's as a mark across it."""
    column = table.column(name)
    asked = asked_of(table, Compare)
    of = asked.before if asked.against else f"against {asked.before} before"
    labels = table.column("period").to_list()
    page = Page(
        table,
        f"{name} per {asked.per}, {of}, {labels[0]} to {labels[-1]}",
        "bar: current side; mark: prior side, in the colour of the change; hatched: not comparable",
    )
    for axes, part in panels_of(page, table, name):
        now, prior = part.column(name).numbers(), part.column(f"{name}_prior").numbers()
        comparable = np.array(part.column("comparable").to_list(), bool)
        x = np.arange(len(now))
        axes.bar(x[comparable], np.nan_to_num(now)[comparable], width=0.7, color=ACCENT)
        axes.bar(
            x[~comparable],
            np.nan_to_num(now)[~comparable],
            width=0.7,
            facecolor=COOL,
            edgecolor=ACCENT,
            hatch="////",
            lw=0.8,
        )
        for at, value, mine, fair in zip(x, prior, now, comparable, strict=True):
            if value == value:
                colour = SOFT if not fair else WARM if mine < value else INK
                axes.plot([at - 0.42, at + 0.42], [value, value], color=colour, lw=2.2)
        axes.axhline(0, color=SOFT, lw=0.8)
        own = [str(label) for label in part.column("period").to_list()]
        places = thinned(own, axes.get_position().width * 1280)
        marked(axes, places, [own[i] for i in places], *bar_edges(len(own)))
        numbered(axes, column)
    return page.save(path)


def draw_histogram(table: Table, path: str | Path, name: str) -> Path:
    """Draw how many values lie in each range."""
    measured = asked_of(table, Histogram).column
    page = Page(
        table,
        f"How {measured} is distributed, in ranges of {compact(table['to'][0] - table['from'][0])}",
        "share of each panel's values" if len(table.names) > 4 else "number of values",
    )
    keys = table.names[: table.names.index("from")]
    what = "share" if keys else "entries"
    for axes, part in panels_of(page, table, None, by=keys):
        first, width = part["from"], part["to"] - part["from"]
        column = part.column(what)
        axes.bar(first, column.numbers(), width=width * 0.94, align="edge", color=ACCENT)
        numbered(axes, column)
        numbered(axes, Column.of("", "float", [0.0]), "x")
    return page.save(path)
