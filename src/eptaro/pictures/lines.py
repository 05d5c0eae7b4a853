"""Lines: running totals of this period over the prior ones, and rolling windows."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.days import as_date
from eptaro.core.tables.table import Table
from eptaro.core.verbs.accumulate import Accumulate
from eptaro.core.verbs.compare.counterparts import of_to_date
from eptaro.core.verbs.compare.options import Compare
from eptaro.core.verbs.compare.sides import Sides
from eptaro.core.verbs.trail import Trail
from eptaro.pictures.asked import asked_of, calendar_of, view_of
from eptaro.pictures.groups import panels_of
from eptaro.pictures.page import Page, marked, numbered
from eptaro.pictures.style import ACCENT, EARLIER, INK, SOFT, WARM
from eptaro.pictures.words import date_marks, thinned, written

_MOST_LINES = 1 + len(EARLIER)


def draw_to_date(table: Table, path: str | Path, name: str) -> Path:
    """Draw running totals by day of the period: the last period over those before it."""
    stem, name = name, f"{name}_to_date"
    last = str(table.column("within").to_list()[-1])
    asked, today = asked_of(table, Accumulate), table.meta["as_of"]
    page = Page(
        table,
        f"{stem} to date in {last}, as of {today}, over the periods before",
        f"running total by day of the {asked.within}; the gap is to "
        "the period before, up to the same date",
    )
    for axes, part in panels_of(page, table, name, same_scale=False):
        _draw_periods(axes, part, name, _day_before(table, asked.within))
    return page.save(path)


def _day_before(table: Table, within: str) -> int | None:
    """Return the counterpart, in the period before, of the last day drawn, as `compare` has it."""
    view = view_of(table)
    if view is None or within not in view.calendar.levels or not len(table):
        return None
    last = table.column("date" if "date" in table else "last").data[-1:].astype(np.int64)
    now = Sides.of(view.calendar, within, view.calendar.index_of(last, within), last=last)
    prior = of_to_date(view, within, within, "date")(now, 1)
    return int(prior.last[0]) if prior.exists[0] else None


def _draw_periods(axes: Any, part: Table, name: str, day_before: int | None) -> None:
    column = part.column(name)
    labels = np.array([str(w) for w in part.column("within").to_list()])
    date = "date" if "date" in part else "last"
    day = part.column(date).data - part.column("first").data + 1
    values = column.numbers()
    order = list(dict.fromkeys(labels))[-_MOST_LINES:]
    ends = []
    for back, label in enumerate(reversed(order)):
        mine = labels == label
        colour = ACCENT if not back else EARLIER[back - 1]
        axes.plot(
            day[mine],
            values[mine],
            color=colour,
            lw=2.4 if not back else 1.4,
            zorder=_MOST_LINES - back + 2,
        )
        ends.append((label, day[mine][-1], values[mine][-1], colour))
    _, at, value, _ = ends[0]
    axes.plot([at], [value], "o", color=ACCENT, ms=6, zorder=20)
    ended = [(x, y, text, SOFT) for text, x, y, _ in ends[1:]]
    said = f"{order[-1]}  {written(column, value)}"
    if len(order) > 1:
        mine = (labels == order[-2]) & (part.column(date).data == day_before)
        before = values[mine][0] if mine.any() else np.nan
        if before == before and value == value:
            axes.plot([at, at], [before, value], color=WARM, lw=2, zorder=19)
            side = "above" if value >= before else "below"
            said += f"\n{written(column, abs(value - before))} {side} {order[-2]} by then"
    axes.annotate(
        said,
        (0.012, 0.985),
        xycoords="axes fraction",
        va="top",
        size=9.5,
        color=ACCENT,
        weight="bold",
        zorder=22,
    )
    spaced_labels(axes, ended)
    low, high = axes.get_ylim()  # room for the words above the lines
    axes.set_ylim(low, high + (high - low) * 36 / (axes.get_position().height * 800))
    axes.set_xlim(1, max(day.max() * 1.12, 2))
    axes.set_xlabel("day of the period", size=9, color=SOFT)
    axes.xaxis.get_major_locator().set_params(integer=True)
    numbered(axes, column)


def spaced_labels(axes: Any, ends: list[tuple[float, float, str, str]]) -> None:
    """Write labels beside the ends of lines, moved apart where they would touch."""
    axes.margins(y=0.1)
    axes.autoscale_view()
    low, high = axes.get_ylim()
    if min((y for _, y, _, _ in ends if y == y), default=low) >= 0 > low:
        axes.set_ylim(bottom=0)
    least = (high - low) * 13 / (axes.get_position().height * 800)
    placed: list[float] = []
    for x, y, text, colour in sorted(ends, key=lambda end: (np.isnan(end[1]), end[1])):
        if y != y:
            continue
        at = y if not placed else max(y, placed[-1] + least)
        placed.append(at)
        axes.annotate(
            text,
            (x, at),
            xytext=(7, 0),
            textcoords="offset points",
            va="center",
            size=9,
            color=colour,
            weight="bold" if colour == ACCENT else "normal",
            zorder=22,
            annotation_clip=False,
        )


def draw_day_by_day(table: Table, path: str | Path, name: str) -> Path:
    """Draw a period to date, day by day, over its counterpart."""
    column, asked = table.column(name), asked_of(table, Compare)
    now, before = (table.column(n).to_list()[-1] for n in ("period", "prior_period"))
    change = table.column(f"{name}_change").numbers()
    said = ""
    if change[-1] == change[-1]:
        side = "up" if change[-1] >= 0 else "down"
        said = f": {side} {written(column, abs(change[-1]))} on {before}"
    page = Page(
        table,
        f"{name} of {now} to {table.column('last').to_list()[-1]}{said}",
        f"running totals, each day against its counterpart (match {asked.match})",
    )
    for axes, part in panels_of(page, table, name, same_scale=False):
        periods = np.array([str(p) for p in part.column("period").to_list()])
        mine = periods == periods[-1]
        day = part["day"][mine]
        ends = []
        for own, colour, label in ((f"{name}_prior", EARLIER[0], before), (name, ACCENT, now)):
            values = part.column(own).numbers()[mine]
            axes.plot(day, values, color=colour, lw=2.4 if own == name else 1.5)
            ends.append((day[-1], values[-1], str(label), colour))
        axes.plot(ends[-1][:1], ends[-1][1:2], "o", color=ACCENT, ms=6)
        axes.set_xlim(1, max(day.max() * 1.12, 2))
        spaced_labels(axes, ends)
        axes.set_xlabel("day of the period", size=9, color=SOFT)
        axes.xaxis.get_major_locator().set_params(integer=True)
        numbered(axes, column)
    return page.save(path)


def draw_trailing(table: Table, path: str | Path, name: str) -> Path:
    """Draw rolling windows as a line over the days' own values, where there is room for these."""
    stem, name = name, f"{name}_trailing"
    days = table.column("date").data
    asked = asked_of(table, Trail)
    reach = f"trailing {asked.back}"
    page = Page(
        table,
        f"{stem}, {reach}, {as_date(int(days.min()))} to {as_date(int(days.max()))}",
        f"{table.column(name).description}; dotted where the window reaches beyond the days "
        "that are known",
    )
    calendar = calendar_of(table)
    for axes, part in panels_of(page, table, name):
        column = part.column(name)
        day, values = part.column("date").data, column.numbers()
        whole = np.array(part.column("complete").to_list(), bool)
        axes.plot(day, np.where(whole, values, np.nan), color=ACCENT, lw=2)
        axes.plot(day, values, color=ACCENT, lw=1, ls=":")
        if len(day) <= 24:
            axes.plot(day, values, "o", color=ACCENT, ms=4)
        if asked.every == "day":
            _own_points(axes, table, stem, day)
        marks, labels = date_marks(calendar, int(day.min()), int(day.max()))
        kept = thinned(labels, axes.get_position().width * 1280)
        lo, hi = int(day.min()) - 1, int(day.max()) + 1
        marked(axes, [marks[i] for i in kept], [labels[i] for i in kept], lo, hi)
        numbered(axes, column)
        axes.margins(y=0.08)
        if np.nanmin(values, initial=0.0) >= 0:
            axes.set_ylim(bottom=0)
    return page.save(path)


def _own_points(axes: Any, table: Table, stem: str, day: Any) -> None:
    """Draw the days' own values on a scale of their own below the line, where known."""
    view = view_of(table)
    if view is None or view.groups.names:
        return
    measure = next(m for m in view.facts.measures if m.name == stem)
    own = view.value(measure, np.zeros(len(day), np.int64), day, day)
    low = axes.twinx()
    low.plot(day, own.numbers(), ".", color=EARLIER[1], ms=2.5)
    low.set_ylim(0, max(float(np.nanmax(own.numbers())), 1e-9) * 4)
    low.axis("off")
    axes.annotate(
        "dots: the days' own values, on a scale of their own",
        (0.0, 1.0),
        xycoords="axes fraction",
        size=8.5,
        color=INK,
        alpha=0.6,
        va="bottom",
    )
