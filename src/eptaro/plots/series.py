"""Values over time as bars, lines, areas or dots: a panel for each measure or group."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, TypeAlias

import numpy as np

from eptaro.core.calendars.days import Ints, as_date
from eptaro.core.results.column import Column
from eptaro.core.results.format import format_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Recap, Trail
from eptaro.plots.groups import (
    Group,
    calendar_of,
    group_names,
    groups_of,
    panels_of,
    query_of,
    view_of,
)
from eptaro.plots.page import Page
from eptaro.plots.timeaxis import day_marks, set_marks, thinned_periods
from eptaro.plots.words import end_labels, format_numbers, of_one_size

Form: TypeAlias = Literal["bars", "lines", "areas", "dots"]
_LABELLED = 16  # bars that have room for their figure
_NAME = 7.2  # dots of a letter in a name at a line's end


def draw_periods(table: Result, page: Page, measures: Sequence[str], form: Form) -> None:
    """Draw the periods of a recap in one form, unfinished ones hatched or dotted.

    Bars have a panel for each group, or for each measure where there are several; other forms
    have a panel for each measure, with all groups in it.
    """
    query = query_of(table, Recap)
    table = _parts_alone(table)
    whole = all(table.column("complete").to_list())
    page.say(f"{', '.join(measures)}: each {query.per}{_by(table)}")
    colour = page.theme.accent
    if not whole:
        mark = "hatched" if form == "bars" else "dashed"
        page.legend(
            ("bar" if form == "bars" else "line", colour, "a whole period"),
            (mark, colour, "a period that the data covers in part"),
        )
    if form == "bars":
        for axes, part, name in panels_of(page, table, measures):
            _bars(page, axes, part, query.per, name)
        return
    panels = page.panels(
        _titles(measures), same_scale=False, across=1, right=_right_margin(table, form)
    )
    groups = groups_of(page, table, measures[0])
    for axes, name in zip(panels, measures, strict=True):
        _period_lines(page, axes, groups, query.per, name, form)


def _by(table: Result) -> str:
    names = group_names(table)
    return f", by {' and '.join(name.replace('_', ' ') for name in names)}" if names else ""


def _titles(measures: Sequence[str]) -> list[str]:
    return [name.replace("_", " ") if len(measures) > 1 else "" for name in measures]


def _right_margin(table: Result, form: Form) -> float:
    """Return the room at the right for the names of lines."""
    names = group_names(table)
    if not names or form == "bars":
        return 12.0
    words = {
        ", ".join(map(str, key))
        for key in zip(*(table.column(n).to_list() for n in names), strict=True)
    }
    return min(max(map(len, words)), 24) * _NAME + 18


def _parts_alone(table: Result) -> Result:
    """Return the rows without totals and subtotals, which would dwarf their parts."""
    keep = np.array([label != "total" for label in table.column("period").to_list()])
    if "level" in table:
        per = query_of(table, Recap).per
        keep &= np.array([level == per for level in table.column("level").to_list()])
    return table if keep.all() else table.take(np.flatnonzero(keep))


def _tips_of_rows(part: Result, name: str) -> list[str]:
    """Return what each row of a recap says when it is pointed at."""
    column = part.column(name)
    spans = zip(
        format_column(part.column("period")),
        part.column("first").to_list(),
        part.column("last").to_list(),
        format_numbers(column, column.numbers()),
        strict=True,
    )
    return [f"{period}, {first} to {last}: {number}" for period, first, last, number in spans]


def _bars(page: Page, axes: Any, part: Result, per: str, name: str) -> None:
    column = part.column(name)
    whole = np.array(part.column("complete").to_list(), bool)
    labels = [str(label) for label in part.column("period").to_list()]
    draw_bars(page, axes, column, _tips_of_rows(part, name), whole)
    first = part.column("first").data.astype(np.int64)
    room = page.dots(axes)[0] * len(labels) / (len(labels) + 0.2)
    marks = thinned_periods(calendar_of(part), per, first, labels, room)
    set_marks(page, axes, marks, *bar_edges(len(labels)))


def draw_bars(
    page: Page, axes: Any, column: Column, tips: Sequence[str], whole: Any | None = None
) -> None:
    """Draw one bar for each value of a column, those that are not whole hatched."""
    values = column.numbers()
    theme = page.theme
    x = np.arange(len(values))
    whole = np.ones(len(values), bool) if whole is None else whole
    finished = {"color": theme.accent, "lw": 0}
    hatched = {"facecolor": theme.cool, "edgecolor": theme.accent, "hatch": "////", "lw": 0.8}
    for some, style in ((whole, finished), (~whole, hatched)):
        heights = np.nan_to_num(values[some])
        for at, bar in zip(x[some], axes.bar(x[some], heights, width=0.78, **style), strict=True):
            page.tip(bar, tips[at])
    blank = np.isnan(values)
    axes.plot(x[blank], np.zeros(blank.sum()), "x", color=theme.soft, ms=4, clip_on=False)
    axes.axhline(0, color=theme.soft, lw=0.8)
    page.format_axis(axes, column)
    room = page.dots(axes)[0] / (len(values) + max(5 - len(values), 0) + 0.2)
    words = of_one_size(values.tolist(), column)
    if len(values) > _LABELLED or room < max(map(len, words)) * 6.6 + 4:
        axes.margins(y=0.06)
        return
    for at, value in zip(x[~blank], values[~blank], strict=True):
        axes.annotate(
            words[at],
            (at, value),
            ha="center",
            size=8.5,
            color=theme.ink,
            va="bottom" if value >= 0 else "top",
            xytext=(0, 3 if value >= 0 else -3),
            textcoords="offset points",
        )
    room_for_figures(page, axes, values)


def room_for_figures(page: Page, axes: Any, values: Any) -> None:
    """Widen a scale so that figures at the ends of bars lie within the axes."""
    low, high = min(0.0, np.nanmin(values, initial=0.0)), max(0.0, np.nanmax(values, initial=0.0))
    per_dot = ((high - low) or 1.0) / max(page.dots(axes)[1] - 44, 30)
    current = axes.get_ylim()
    low = low - 22 * per_dot if low < 0 else low
    axes.set_ylim(min(current[0], low), max(current[1], high + 22 * per_dot))


def bar_edges(count: int) -> tuple[float, float]:
    """Return where an axis of bars begins and ends; few bars do not fill it."""
    spare = max(5 - count, 0) / 2
    return -0.6 - spare, count - 0.4 + spare


def _period_lines(
    page: Page, axes: Any, groups: Sequence[Group], per: str, name: str, form: Form
) -> None:
    """Draw periods as points in a row, joined or not, a line for each group."""
    firsts: dict[str, int] = {}
    for group in groups:
        spans = zip(
            group.rows.column("period").to_list(), group.rows.column("first").data, strict=True
        )
        firsts |= {str(label): int(first) for label, first in spans}
    labels = sorted(firsts, key=lambda label: firsts[label])
    place = {label: at for at, label in enumerate(labels)}
    ends, values = [], []
    for group in reversed(groups):
        rows, column = group.rows, group.rows.column(name)
        x = np.array([place[str(label)] for label in rows.column("period").to_list()], float)
        y = column.numbers()
        whole = np.array(rows.column("complete").to_list(), bool)
        draw_line(page, axes, (x, y), whole, group.colour, form)
        page.tip_points(
            axes, x, y, [f"{group.name} {tip}".strip() for tip in _tips_of_rows(rows, name)]
        )
        values.append(y)
        if group.name and group.colour:
            ends.append(_end(x, y, group.name, group.colour))
    page.format_axis(axes, groups[0].rows.column(name))
    _from_zero(axes, np.concatenate(values), form)
    lo, hi = -0.5, len(labels) - 0.5
    first = np.array([firsts[label] for label in labels], np.int64)
    calendar, room = calendar_of(groups[0].rows), page.dots(axes)[0]
    set_marks(page, axes, thinned_periods(calendar, per, first, labels, room), lo, hi)
    end_labels(page, axes, ends, right=hi)


def _end(x: Any, y: Any, name: str, colour: str) -> tuple[float, float, str, str]:
    """Return the last known point of a line, with its name."""
    defined = np.flatnonzero(~np.isnan(y))
    at = defined[-1] if len(defined) else 0
    short = name if len(name) <= 24 else f"{name[:11]}…{name[-12:]}"
    return float(x[at]), float(y[at]), short, colour


def draw_line(
    page: Page, axes: Any, points: tuple[Any, Any], whole: Any, colour: str | None, form: Form
) -> None:
    """Draw one line; where its values are not whole it is dotted."""
    x, y = points
    shade, width = colour or page.theme.earlier[2], 2.2 if colour else 1.0
    depth = 4 if colour else 2
    if form == "dots":
        axes.plot(x, y, "o", color=shade, ms=5 if len(x) < 80 else 2.4, zorder=depth)
        return
    if form == "areas":
        axes.fill_between(x, np.nan_to_num(y), color=shade, alpha=0.22, lw=0, zorder=depth - 1)
    axes.plot(x, np.where(whole, y, np.nan), color=shade, lw=width, zorder=depth)
    broken = ~whole
    broken = broken | np.append(broken[1:], False) | np.append(False, broken[:-1])
    if not whole.all():
        axes.plot(x, np.where(broken, y, np.nan), color=shade, lw=width * 0.7, ls=":", zorder=depth)
    if len(x) <= 40 and colour:
        axes.plot(x[whole], y[whole], "o", color=shade, ms=4, zorder=depth)
        axes.plot(x[~whole], y[~whole], "o", color=shade, mfc=page.theme.paper, ms=4, zorder=depth)


def _from_zero(axes: Any, values: Any, form: Form) -> None:
    """Begin the scale at 0 where nothing is below, with a little room above."""
    axes.margins(y=0.08)
    axes.autoscale_view()
    if np.nanmin(values, initial=0.0) >= 0:
        axes.set_ylim(bottom=0)
    elif form != "dots":
        axes.axhline(0, color="0.5", lw=0.8)


def draw_trailing(table: Result, page: Page, measures: Sequence[str], form: Form) -> None:
    """Draw rolling windows over the days that they end on."""
    query = query_of(table, Trail)
    days = table.column("date").data.astype(np.int64)
    span = f"{as_date(int(days.min()))} to {as_date(int(days.max()))}"
    page.say(f"{', '.join(measures)} over the {query.amount} to each date{_by(table)}, {span}")
    single = query.every == "day" and not group_names(table) and form == "lines"
    entries = [("line", page.theme.accent, f"the {query.amount} to a date")]
    partly = not all(table.column("complete").to_list())
    if partly:
        entries.append(("dashed", page.theme.accent, "the window reaches beyond the coverage"))
    if single:
        words = "dots below: the days' own values, on a scale of their own"
        entries.append(("dot", page.theme.earlier[1], words))
    if partly or single:
        page.legend(*entries)
    panels = page.panels(
        _titles(measures), same_scale=False, across=1, right=_right_margin(table, form)
    )
    groups = groups_of(page, table, f"{measures[0]}_trailing")
    for axes, stem in zip(panels, measures, strict=True):
        _windows(page, axes, groups, stem, form)
        if single:
            _own_points(page, axes, table, stem, days)


def _windows(page: Page, axes: Any, groups: Sequence[Group], stem: str, form: Form) -> None:
    name = f"{stem}_trailing"
    ends, values, dates = [], [], []
    for group in reversed(groups):
        rows, column = group.rows, group.rows.column(name)
        day, y = rows.column("date").data.astype(float), column.numbers()
        whole = np.array(rows.column("complete").to_list(), bool)
        draw_line(page, axes, (day, y), whole, group.colour, form)
        spans = zip(rows.column("first").to_list(), rows.column("last").to_list(), strict=True)
        numbers = zip(spans, format_numbers(column, y), strict=True)
        tips = [f"{group.name} {a} to {b}: {number}".strip() for (a, b), number in numbers]
        page.tip_points(axes, day, y, tips)
        values.append(y)
        dates.append(day)
        if group.name and group.colour:
            ends.append(_end(day, y, group.name, group.colour))
    page.format_axis(axes, groups[0].rows.column(name))
    _from_zero(axes, np.concatenate(values), form)
    lo, hi = (int(end(np.concatenate(dates))) for end in (np.min, np.max))
    pad = max((hi - lo) * 0.01, 0.6)
    marks = day_marks(calendar_of(groups[0].rows), lo, hi, page.dots(axes)[0])
    set_marks(page, axes, marks, lo - pad, hi + pad)
    end_labels(page, axes, ends, right=hi + pad)


def _own_points(page: Page, axes: Any, table: Result, stem: str, day: Ints) -> None:
    """Draw the days' own values on a scale of their own below the line, where known."""
    view = view_of(table)
    if view is None:
        return
    measure = next(m for m in view.facts.measures if m.name == stem)
    own = view.value(measure, np.zeros(len(day), np.int64), day, day).numbers()
    low = axes.twinx()
    low.plot(day, own, ".", color=page.theme.earlier[1], ms=2.5)
    top = float(np.nanmax(own, initial=0.0))
    low.set_ylim(min(float(np.nanmin(own, initial=0.0)), 0.0), max(top, 1e-9) * 4)
    low.axis("off")
