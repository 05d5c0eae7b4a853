"""Changes by group: bars to both sides, and the steps from the prior value to the current one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eptaro.core.query.lineage import InParts
from eptaro.core.results.format import format_column
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError
from eptaro.plots.groups import group_name, group_names
from eptaro.plots.page import Page
from eptaro.plots.words import format_change, format_number, shorten_distinctly
from eptaro.record import Record, record

_MOST, _STEPS = 30, 15


@record
class Changes(Record):
    """The groups of the last period, and a measure's values, prior values and changes."""

    groups: Result
    now: np.ndarray
    prior: np.ndarray
    change: np.ndarray

    @classmethod
    def of(cls, table: Result, name: str) -> Changes:
        """Return the changes of one measure; raises `QuestionError` for no groups."""
        if isinstance(table.answer, InParts) and len(table.answer.totals):
            table = table.take(np.setdiff1d(np.arange(len(table)), table.answer.totals))
        if not len(table):
            raise QuestionError("no group has a change to draw, only all of them together")
        names = group_names(table)
        if not names:
            raise QuestionError("changes by group need groups; name a column in by")
        if "calendar" in names:
            keys = [*zip(*(table.column(n).to_list() for n in names), strict=True)]
            if len(table) != len(set(keys)):
                raise QuestionError("changes by group take one period each; ask with to_date=True")
            part = table
        else:
            periods = table.column("period").unmasked()
            part = table.take(np.flatnonzero(periods == periods[-1]))
        columns = [part.column(n).numbers() for n in (name, f"{name}_prior", f"{name}_change")]
        return cls(part.select(names), *columns)

    def word(self, at: int) -> str:
        """Return the name of a group."""
        part = self.groups.take(slice(at, at + 1))
        return group_name(tuple(column.to_list()[0] for column in part.columns))

    def largest(self, count: int) -> list[int]:
        """Return the groups that changed most, the largest change first."""
        order = np.argsort(-np.abs(np.nan_to_num(self.change)), kind="stable")
        return [int(at) for at in order[~np.isnan(self.change[order])][:count]]

    @property
    def known_changes(self) -> int:
        """How many groups have a change."""
        return int((~np.isnan(self.change)).sum())

    def tip(self, at: int, column: Any) -> str:
        """Return what a group's mark says when it is pointed at."""
        now, prior = format_number(column, self.now[at]), format_number(column, self.prior[at])
        return (
            f"{self.word(at)}: {prior} before, {now} now, {format_change(column, self.change[at])}"
        )


def _last_row(table: Result) -> dict[str, Any]:
    return next(table.take(slice(len(table) - 1, None)).rows())


def _spans(table: Result, change: np.ndarray) -> str:
    """Return the days that are set against each other."""
    row = _last_row(table)
    blank = int(np.isnan(change).sum())
    more = f"; {blank} groups are not comparable" if blank else ""
    first = table.column("first").data
    if "calendar" in table and (first != first[-1]).any():
        return f"to date, each in its own period against its own counterpart{more}"
    return (
        f"{row['first']} to {row['last']} against {row['prior_first']} to {row['prior_last']}{more}"
    )


def draw_changes(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw each group's change as a bar to the left or right, the largest gain on top."""
    all_changes = [Changes.of(table, name) for name in measures]
    lead = all_changes[0]
    page.say(f"changes of {', '.join(measures)}, {_spans(table, lead.change)}")
    page.legend(*_direction_marks(table, page, measures))
    if lead.known_changes > _MOST:
        page.note(f"the {_MOST} largest changes of {lead.known_changes:,} groups are drawn")
    order = np.sort(np.array(lead.largest(_MOST), int))
    order = order[np.argsort(lead.change[order], kind="stable")]
    letters = 26 if len(measures) == 1 or page.width >= 1100 else 16
    words = shorten_distinctly([lead.word(i) for i in order], letters)
    longest = max(map(len, words), default=1)
    margin = min(longest * 7.4 + 46, page.width * 0.3)
    if len(measures) == 1:
        panels = [page.axes(left=margin)]
    else:
        titles = [name.replace("_", " ") for name in measures]
        panels = page.panels(titles, same_scale=False, across=len(measures), left=margin)
    for axes, name, one in zip(panels, measures, all_changes, strict=True):
        _sideways(page, axes, table.column(name), one, order, words)


def _direction_marks(table: Result, page: Page, measures: Sequence[str]) -> tuple[Any, ...]:
    """Return the marks of changes up and down, or for better and worse where less may be better."""
    lower = [table.column(name).lower_is_better for name in measures]
    up, down = ("better", "worse") if any(lower) else ("up", "down")
    return ("bar", page.theme.accent, up), ("bar", page.theme.warm, down)


def _sideways(
    page: Page, axes: Any, column: Any, changes: Changes, order: np.ndarray, words: Sequence[str]
) -> None:
    theme = page.theme
    axes.grid(visible=False)
    axes.grid(axis="x", color=theme.faint, lw=0.8)
    values = changes.change[order]
    for y, (at, value) in enumerate(zip(order.tolist(), values.tolist(), strict=True)):
        if value != value:
            continue
        (bar,) = axes.barh(
            [y], [value], color=theme.warm if column.is_worse(value) else theme.accent, height=0.72
        )
        page.tip(bar, changes.tip(at, column))
        axes.annotate(
            format_change(column, value),
            (value, y),
            va="center",
            size=9,
            color=theme.ink,
            ha="left" if value >= 0 else "right",
            xytext=(5 if value >= 0 else -5, 0),
            textcoords="offset points",
        )
    axes.axvline(0, color=theme.soft, lw=1)
    axes.set_yticks(range(len(order)), words)
    axes.set_ylim(-0.6, max(len(order), 3) - 0.4)
    page.format_axis(axes, column, "x")
    low, high = min(np.nanmin(values, initial=0.0), 0.0), max(np.nanmax(values, initial=0.0), 0.0)
    room = max((len(format_change(column, value)) for value in values), default=1) * 7.2 + 12
    wide = max(page.dots(axes)[0] - 2 * room, 30)
    per_dot = ((high - low) or 1.0) / wide
    axes.set_xlim(low - room * per_dot, high + room * per_dot)


def draw_steps(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw the way from the prior value of all groups to the current one, group by group."""
    name = measures[0]
    changes, theme, column = Changes.of(table, name), page.theme, table.column(name)
    page.say(f"{name}, from the prior value to the current one, {_spans(table, changes.change)}")
    page.legend(
        ("bar", theme.earlier[0], "the whole, before and now"),
        *_direction_marks(table, page, measures[:1]),
    )
    if len(measures) > 1:
        page.note(f"the first of {len(measures)} measures is drawn; choose another with measure=")
    change = changes.change
    fair, order = ~np.isnan(change), changes.largest(len(change))
    words = shorten_distinctly([changes.word(i) for i in order[:_STEPS]], 18)
    steps = [
        (word, float(change[i]), changes.tip(i, column))
        for word, i in zip(words, order, strict=False)
    ]
    if len(order) > _STEPS:
        rest, others = float(change[order[_STEPS:]].sum()), len(order) - _STEPS
        steps.append((f"{others} others", rest, f"{others} others: {format_change(column, rest)}"))
    start, stop = float(changes.prior[fair].sum()), float(changes.now[fair].sum())
    axes = page.axes(bottom=150)
    ends = ["before", "now"]
    if "calendar" not in table:
        ends = [format_column(table.column(n))[-1] for n in ("prior_period", "period")]
    levels = start + np.cumsum([0.0, *(value for _, value, _ in steps)])
    bottom = _begin(axes, page, column, [start, stop, *levels])
    for at, value, label in ((0, start, ends[0]), (len(steps) + 1, stop, ends[1])):
        (bar,) = axes.bar(
            [at], [value - bottom], bottom=[bottom], color=theme.earlier[0], width=0.7
        )
        page.tip(bar, f"{label}: {format_number(column, value)}")
        _write_number(axes, at, value, format_number(column, value), theme.ink, bold=True)
    for at, (_, value, tip) in enumerate(steps, 1):
        level = levels[at - 1]
        colour = theme.warm if column.is_worse(value) else theme.accent
        (bar,) = axes.bar([at], [value], bottom=[level], color=colour, width=0.7)
        page.tip(bar, tip)
        axes.plot([at - 1.35, at + 0.35], [level, level], color=theme.soft, lw=0.8)
        _write_number(
            axes, at, level + value, format_change(column, value), theme.ink, below=value < 0
        )
    labels = [ends[0], *(word for word, _, _ in steps), ends[1]]
    axes.set_xticks(range(len(labels)), labels, rotation=32, ha="right", rotation_mode="anchor")
    page.format_axis(axes, column)


def _write_number(
    axes: Any,
    at: float,
    y: float,
    text: str,
    colour: str,
    *,
    below: bool = False,
    bold: bool = False,
) -> None:
    """Write a number above the end of a bar, or below that of one that goes down."""
    axes.annotate(
        text,
        (at, y),
        ha="center",
        va="top" if below else "bottom",
        size=9 if bold else 8,
        color=colour,
        weight="bold" if bold else "normal",
        xytext=(0, -3 if below else 3),
        textcoords="offset points",
    )


def _begin(axes: Any, page: Page, column: Any, heights: Sequence[float]) -> float:
    """Return where the scale begins: at 0, or above it, and then the axis is drawn as broken."""
    low, high = min(heights), max(heights)
    spread = high - low
    if low <= 0 or spread >= 0.5 * high:
        low, high = min(low, 0.0), max(high, 0.0)
        spread = (high - low) or 1.0
        axes.set_ylim(low - 0.06 * spread, high + 0.1 * spread)
        return 0.0
    bottom = max(low - 1.2 * max(spread, 0.02 * high), 0.0)
    axes.set_ylim(bottom, high + 0.18 * max(spread, 0.02 * high))
    if bottom > 0:
        for x in (-0.008, 0.004):
            axes.plot(
                [x, x + 0.012],
                [-0.012, 0.02],
                transform=axes.transAxes,
                color=page.theme.ink,
                lw=1.6,
                clip_on=False,
            )
        page.note(f"the scale is broken: it begins at {format_number(column, bottom)}, not at 0")
    return bottom
