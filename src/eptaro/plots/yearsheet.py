"""A year of a calendar as a picture: one block per month, one line per week."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from eptaro.outputs.calendars import MonthBlock, YearPlan
from eptaro.plots.page import save
from eptaro.plots.theme import LIGHT, new_figure

ACCENT, COOL, FAINT = LIGHT.accent, LIGHT.cool, LIGHT.faint
INK, SOFT, WARM = LIGHT.ink, LIGHT.soft, LIGHT.warm
_ACROSS = 4
_LINES = 9  # title, weekday heads, up to six weeks, a gap


def draw_year(plan: YearPlan, described: str, path: str | Path) -> Path:
    """Draw the year to a .png, .svg or .pdf and return its path.

    Weekends are shaded, holidays ringed and listed; each month has its label and span,
    and the first month of a quarter the quarter's.
    """
    figure = new_figure((1280, 800), LIGHT.paper)
    rows = math.ceil(len(plan.blocks) / _ACROSS)
    axes = figure.add_axes((0.03, 0.13, 0.94, 0.77))
    axes.set_xlim(0, _ACROSS * 9)
    axes.set_ylim(rows * _LINES, 0)
    axes.axis("off")
    year = plan.year
    weeks = f", {year.days // 7} weeks" if year.days % 7 == 0 else ""
    title = f"{year.label}: {year.first} to {year.last}"
    figure.text(0.03, 0.945, title, size=17, weight="bold", color=INK)
    worked = f"{year.days} days{weeks}, {plan.workdays.count(year.span)} workdays"
    figure.text(0.97, 0.945, worked, size=11, color=SOFT, ha="right")
    for place, block in enumerate(plan.blocks):
        row, column = divmod(place, _ACROSS)
        _draw_block(axes, plan, block, column * 9, row * _LINES)
    legend = "heavy rule: a quarter begins · shaded: weekend · framed: holiday"
    figure.text(0.03, 0.025, f"{described} · {legend}", size=8.5, color=SOFT)
    _draw_holidays(figure, plan)
    return save(figure, path, {})


def _draw_block(axes: Any, plan: YearPlan, block: MonthBlock, x: float, y: float) -> None:
    period, quarter = block.period, block.quarter
    span = f"{period.first:%d %b} to {period.last:%d %b}"
    axes.text(x + 0.1, y + 0.75, period.label, size=10, weight="bold", color=ACCENT, va="center")
    axes.text(x + 7.9, y + 0.75, span, size=7.5, color=SOFT, va="center", ha="right")
    if quarter and quarter.first == period.first:
        axes.plot([x + 0.1, x + 7.9], [y + 0.05, y + 0.05], color=ACCENT, lw=2.2)
    else:
        axes.plot([x + 0.1, x + 7.9], [y + 0.05, y + 0.05], color=FAINT, lw=1)
    for place, head in enumerate(plan.weekdays):
        axes.text(
            x + 1.5 + place, y + 1.5, head[:2].title(), size=7, color=SOFT, ha="center", va="center"
        )
    for number, line in enumerate(block.lines):
        at = y + 2.4 + number
        axes.text(
            x + 0.5,
            at,
            str(line.number),
            size=7,
            color=SOFT,
            ha="center",
            va="center",
            style="italic",
        )
        for place, day in enumerate(line.days):
            if day is None:
                continue
            centre = x + 1.5 + place
            if plan.is_weekend(day):
                axes.fill_between(
                    [centre - 0.48, centre + 0.48], at - 0.46, at + 0.46, color=COOL, lw=0
                )
            holiday = day in plan.holidays
            if holiday:
                axes.fill_between(
                    [centre - 0.48, centre + 0.48],
                    at - 0.46,
                    at + 0.46,
                    facecolor="none",
                    edgecolor=WARM,
                    lw=1.3,
                )
            axes.text(
                centre,
                at,
                str(day.day),
                size=8,
                color=WARM if holiday else INK,
                weight="bold" if holiday else "normal",
                ha="center",
                va="center",
            )


def _draw_holidays(figure: Any, plan: YearPlan) -> None:
    """List the holidays in four columns below the months."""
    entries = [f"{day:%a %d %b}  {name}" for day, name in plan.holidays.items()]
    per_column = max(math.ceil(len(entries) / 4), 1)
    for place, text in enumerate(entries[:16]):
        column, line = divmod(place, per_column)
        figure.text(0.03 + 0.235 * column, 0.108 - 0.019 * line, text, size=8, color=WARM)
