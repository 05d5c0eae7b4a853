"""Shaded cells: two attributes crossed, and the days of a calendar month by month."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.days import as_date, weekday
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.span import Span
from eptaro.core.questions.by_attribute import column_name
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.core.verbs.recap import Recap
from eptaro.core.verbs.rhythm import Rhythm
from eptaro.errors import QuestionError
from eptaro.pictures.asked import asked_of, calendar_of, group_names, view_of
from eptaro.pictures.page import BOTTOM, TOP, Page
from eptaro.pictures.style import BLACK, INK, PAPER, SOFT, shades
from eptaro.pictures.words import compact

_MOST_MONTHS = 26
_FIGURES = 200  # cells that have room for their figure


def draw_heat(table: Table, path: str | Path, name: str) -> Path:
    """Draw two attributes crossed as shaded cells, per day that bears them where it adds up."""
    if group_names(table):
        raise QuestionError("a heat picture takes one group; narrow with only=")
    name = f"{name}_per_day" if f"{name}_per_day" in table else name
    asked = asked_of(table, Rhythm)
    per, across = (column_name(key) for key in (asked.per, asked.across or ""))
    column = table.column(name)
    downs, overs = (list(dict.fromkeys(_natural(table, key))) for key in (per, across))
    cells = np.full((len(downs), len(overs)), np.nan)
    rows = zip(table.column(per).to_list(), table.column(across).to_list(), strict=True)
    for (down, over), value in zip(rows, column.numbers(), strict=True):
        cells[downs.index(down), overs.index(over)] = value
    kept = ~np.all(np.nan_to_num(cells) == 0, axis=0)  # hours at which nothing ever happens
    cells, overs = cells[:, kept], [over for over, keep in zip(overs, kept, strict=True) if keep]
    peak = np.unravel_index(np.nanargmax(cells), cells.shape)
    page = Page(
        table,
        f"{name.replace('_per_day', ' per day')}: most on {downs[peak[0]]} at {overs[peak[1]]}"
        if per != "hour"
        else f"{name} by {per} and {across}",
        f"by {per.replace('_', ' ')} down and {across.replace('_', ' ')} across; "
        f"{column.description}",
    )
    axes = page.axes(left=0.12, right=0.9)
    axes.grid(visible=False)
    axes.spines["bottom"].set_visible(False)
    low = min(float(np.nanmin(cells)), 0.0)
    image = axes.imshow(cells, cmap=shades(), aspect="auto", vmin=low, vmax=np.nanmax(cells))
    axes.set_yticks(range(len(downs)), downs)
    axes.set_xticks(range(len(overs)), overs)
    _edges(axes, cells.shape)
    if cells.size <= _FIGURES:
        _figures(axes, cells, column, image)
    _scale(page, image, column)
    return page.save(path)


def _natural(table: Table, key: str) -> list[Any]:
    """Return the values of a text column in the order of its choices."""
    column = table.column(key)
    words = [] if column.choices is None else column.choices.tolist()
    held = set(column.to_list())
    return [word for word in words if word in held]


def _edges(axes: Any, shape: tuple[int, ...]) -> None:
    """Set cells apart by thin lines of paper."""
    axes.set_xticks(np.arange(shape[1] + 1) - 0.5, minor=True)
    axes.set_yticks(np.arange(shape[0] + 1) - 0.5, minor=True)
    axes.grid(which="minor", color=PAPER, lw=1.5)
    axes.tick_params(which="minor", length=0)


def _figures(axes: Any, cells: Any, column: Column, image: Any) -> None:
    for (row, place), value in np.ndenumerate(cells):
        if value == value:
            red, green, blue, _ = image.cmap(image.norm(value))
            dark = 0.2126 * red**2.2 + 0.7152 * green**2.2 + 0.0722 * blue**2.2 < 0.186
            axes.text(
                place,
                row,
                compact(value, column),
                ha="center",
                va="center",
                size=8.5,
                color=PAPER if dark else BLACK,
            )


def _scale(page: Page, image: Any, column: Column) -> None:
    from matplotlib.ticker import FuncFormatter

    bar = page.figure.colorbar(image, cax=page.figure.add_axes((0.925, 0.12, 0.014, 0.73)))
    bar.outline.set_visible(False)
    bar.ax.tick_params(colors=SOFT, labelsize=8.5, length=0)
    bar.ax.yaxis.set_major_formatter(FuncFormatter(lambda value, _: compact(value, column)))


def draw_sheet(table: Table, path: str | Path, name: str) -> Path:
    """Draw one line per month of the calendar, one cell per day, shaded by value."""
    date = "date" if "date" in table else "first"
    column, calendar = table.column(name), calendar_of(table)
    days = table.column(date).data.astype(np.int64)
    question = None if table.answer is None else table.answer.question
    by_day = not isinstance(question, Recap) or question.per == "day"
    if (np.diff(np.sort(days)) != 1).any() or not by_day:
        raise QuestionError("a sheet takes one row per day: recap('day') or accumulate(...)")
    months = calendar.periods(Span.of(days.min(), days.max()), "month")
    keep = slice(max(len(months) - _MOST_MONTHS, 0), None)
    first, last, labels = months.first[keep], months.last[keep], months.labels[keep]
    width = int((last - first).max()) + 1
    cells = np.full((len(first), width), np.nan)
    row = np.searchsorted(first, days, side="right") - 1
    shown = row >= 0
    cells[row[shown], days[shown] - first[row[shown]]] = column.numbers()[shown]
    span = f"{labels[0]} to {labels[-1]}" if len(labels) > 1 else str(labels[0])
    best = days[np.nanargmax(np.where(shown, column.numbers(), -np.inf))]
    page = Page(
        table,
        f"{name} by day, {span}: most on {as_date(int(best)):%A} {as_date(int(best))}",
        f"a line per month, a cell per day; {column.description}; heavy edge: a week begins; "
        f"at the right: the month's own value",
    )
    if len(months) > _MOST_MONTHS:
        page.note(f"the last {_MOST_MONTHS} months of {len(months)}")
    axes = page.axes(left=0.09, right=0.83, bottom=max(TOP - 0.06 * len(first), BOTTOM))
    axes.grid(visible=False)
    axes.spines["bottom"].set_visible(False)
    image = axes.imshow(cells, cmap=shades(), aspect="auto", vmin=min(float(np.nanmin(cells)), 0.0))
    _edges(axes, cells.shape)
    every = first[:, None] + np.arange(width)
    opens = WEEKDAYS.index(str(getattr(calendar, "week_starts", "monday")))
    edges = np.argwhere((weekday(every) == opens) & (every <= last[:, None]) & ~np.isnan(cells))
    axes.vlines(edges[:, 1] - 0.5, edges[:, 0] - 0.45, edges[:, 0] + 0.45, color=INK, lw=1.4)
    axes.set_yticks(range(len(labels)), labels)
    axes.set_xticks(range(0, width, 2), [str(n + 1) for n in range(0, width, 2)])
    axes.xaxis.tick_top()
    _month_values(axes, table, name, column, first, last, width)
    _scale(page, image, column)
    return page.save(path)


def _month_values(
    axes: Any, table: Table, name: str, column: Column, first: Any, last: Any, width: int
) -> None:
    """Write each month's own value at the right, where the table's view can tell it."""
    view = view_of(table)
    measures = () if view is None else view.facts.measures
    measure = next((m for m in measures if m.name == name), None)
    if view is None or measure is None:
        return
    values = view.value(measure, np.zeros(len(first), np.int64), first, last).numbers()
    for row, value in enumerate(values):
        if value == value:
            axes.text(width - 0.2, row, compact(value, column), size=8.5, color=SOFT, va="center")
