"""Shaded cells: two attributes crossed, and the days of a calendar month by month."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from typing import Any

import numpy as np

from eptaro.core.calendars.days import as_date, weekday
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.span import Span
from eptaro.core.query.by_attribute import column_name
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Recap, Rhythm
from eptaro.errors import QuestionError
from eptaro.plots.groups import calendar_of, group_names, query_of, view_of
from eptaro.plots.page import Page
from eptaro.plots.theme import ink_on
from eptaro.plots.words import compact, format_numbers, of_one_size

_MOST_MONTHS = 26
_FIGURES = 200  # cells that have room for their figure
_SCALE = 92  # dots at the right for the scale


def draw_heat(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw two attributes crossed as shaded cells, per day where the measure adds up."""
    if group_names(table):
        raise QuestionError("a heat picture takes one group; narrow with only=")
    name = measures[0]
    name = f"{name}_per_day" if f"{name}_per_day" in table else name
    query = query_of(table, Rhythm)
    per, across = (column_name(key) for key in (query.per, query.across or ""))
    column = table.column(name)
    downs, overs = (list(dict.fromkeys(_values_in_order(table, key))) for key in (per, across))
    cells = np.full((len(downs), len(overs)), np.nan)
    rows = zip(table.column(per).to_list(), table.column(across).to_list(), strict=True)
    for (down, over), value in zip(rows, column.numbers(), strict=True):
        cells[downs.index(down), overs.index(over)] = value
    page.say(
        f"{name.replace('_', ' ')}: {per.replace('_', ' ')} down, {across.replace('_', ' ')} across"
    )
    if len(measures) > 1:
        page.note(f"the first of {len(measures)} measures is drawn; choose another with measure=")
    axes = page.axes(left=112, right=_SCALE)
    image = _shade_cells(page, axes, cells, column)
    axes.set_yticks(range(len(downs)), downs)
    axes.set_xticks(range(len(overs)), overs)
    if cells.size <= _FIGURES:
        _write_figures(page, axes, cells, column, image)
    places = product(downs, overs)
    numbers = format_numbers(column, cells.ravel())
    tips = [f"{down}, {over}: {n}" for (down, over), n in zip(places, numbers, strict=True)]
    _tip_cells(page, axes, cells, tips)
    _scale(page, image, column)


def _values_in_order(table: Result, key: str) -> list[Any]:
    """Return the values of a text column in the order of its choices; hours without rows stay."""
    column = table.column(key)
    words = [] if column.choices is None else column.choices.tolist()
    filled = [at for at, word in enumerate(words) if word in set(column.to_list())]
    return words[filled[0] : filled[-1] + 1] if filled else []


def _shade_cells(page: Page, axes: Any, cells: Any, column: Column) -> Any:
    """Draw cells separated by thin lines of paper."""
    axes.grid(visible=False)
    axes.spines["bottom"].set_visible(False)
    numbers = cells[~np.isnan(cells)]
    low = float(numbers.min(initial=0.0))
    high = float(numbers.max(initial=low))
    image = axes.imshow(
        cells, cmap=page.theme.shading(), aspect="auto", vmin=low, vmax=max(high, low + 1e-9)
    )
    axes.set_xticks(np.arange(cells.shape[1] + 1) - 0.5, minor=True)
    axes.set_yticks(np.arange(cells.shape[0] + 1) - 0.5, minor=True)
    axes.grid(which="minor", color=page.theme.paper, lw=1.5)
    axes.tick_params(which="minor", length=0)
    return image


def _tip_cells(page: Page, axes: Any, cells: Any, tips: Sequence[str]) -> None:
    """Put cells that cannot be seen over the shaded ones, each with its words."""
    from matplotlib.patches import Rectangle

    for ((row, place), value), tip in zip(np.ndenumerate(cells), tips, strict=True):
        if value == value:
            cell = Rectangle((place - 0.5, row - 0.5), 1, 1, alpha=0.0, lw=0, zorder=30)
            axes.add_artist(cell)
            page.tip(cell, tip)


def _write_figures(page: Page, axes: Any, cells: Any, column: Column, image: Any) -> None:
    """Write the figures into their cells, all with as many decimals."""
    words = of_one_size(cells.ravel().tolist(), column)
    room = page.dots(axes)[0] / cells.shape[1]
    size = min(8.5, room / max(1, *map(len, words)) * 1.15)
    if size < 5.5:
        return
    inks: dict[str, str] = {}  # the same figure has the same ink wherever it is
    for ((row, place), value), word in zip(np.ndenumerate(cells), words, strict=True):
        if value == value:
            ink = inks.setdefault(word, ink_on(image.cmap(image.norm(value))))
            axes.text(place, row, word, ha="center", va="center", size=size, color=ink)


def _scale(page: Page, image: Any, column: Column) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    box = image.axes.get_position()
    place = ((page.width - 64) / page.width, box.y0, 14 / page.width, box.height)
    bar = page.figure.colorbar(image, cax=page.figure.add_axes(place))
    bar.outline.set_visible(False)
    bar.ax.tick_params(colors=page.theme.soft, labelsize=8.5, length=0)
    bar.ax.yaxis.set_major_locator(MaxNLocator(6))
    bar.ax.yaxis.set_major_formatter(FuncFormatter(lambda value, _: compact(value, column)))


def draw_sheet(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw one line per month of the calendar, one cell per day, shaded by value."""
    name = measures[0]
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
    inside = row >= 0
    cells[row[inside], days[inside] - first[row[inside]]] = column.numbers()[inside]
    numbers = np.where(inside, column.numbers(), np.nan)
    most = ""
    if not np.isnan(numbers).all():
        best = as_date(int(days[np.nanargmax(numbers)]))
        most = f", most on {best:%A} {best}"
    page.say(
        f"{name.replace('_', ' ')} by day{most}: a line per month, a cell per day; heavy edge: a "
        f"week begins; at the right the month's value"
    )
    if len(months) > _MOST_MONTHS:
        page.note(f"the last {_MOST_MONTHS} months of {len(months)}")
    if len(measures) > 1:
        page.note(f"the first of {len(measures)} measures is drawn; choose another with measure=")
    page.say("")
    axes = page.axes(left=112, right=_SCALE + 74, bottom=_bottom(page, len(first)))
    image = _shade_cells(page, axes, cells, column)
    every = first[:, None] + np.arange(width)
    opens = WEEKDAYS.index(str(getattr(calendar, "week_starts", "monday")))
    edges = np.argwhere((weekday(every) == opens) & (every <= last[:, None]) & ~np.isnan(cells))
    lines = edges[:, 1] - 0.5, edges[:, 0] - 0.45, edges[:, 0] + 0.45
    axes.vlines(*lines, color=page.theme.ink, lw=1.4)
    axes.set_yticks(range(len(labels)), [calendar.shown_label(str(label)) for label in labels])
    axes.set_xticks(range(0, width, 2), [str(n + 1) for n in range(0, width, 2)])
    axes.xaxis.tick_top()
    tips = [
        f"{as_date(day):%A} {as_date(day)}: {number}"
        for day, number in zip(
            every.ravel().tolist(), format_numbers(column, cells.ravel()), strict=True
        )
    ]
    _tip_cells(page, axes, cells, tips)
    _month_values(page, axes, table, name, column, (first, last, width))
    _scale(page, image, column)


def _bottom(page: Page, lines: int) -> float:
    """Return where the axes end below: few lines do not fill the page."""
    return max(page.height - 190.0 - 48.0 * lines, 66.0)


def _month_values(
    page: Page, axes: Any, table: Result, name: str, column: Column, months: tuple[Any, Any, int]
) -> None:
    """Write each month's own value at the right, where the table's view has it."""
    first, last, width = months
    view = view_of(table)
    measures = () if view is None else view.facts.measures
    measure = next((m for m in measures if m.name == name), None)
    if view is None or measure is None:
        return
    values = view.value(measure, np.zeros(len(first), np.int64), first, last).numbers()
    for row, word in enumerate(of_one_size(values.tolist(), column)):
        axes.text(width - 0.2, row, word, size=8.5, color=page.theme.soft, va="center")
