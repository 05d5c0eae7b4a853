"""Changes by group: diverging bars, and the steps from the prior value to the current one."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError
from eptaro.pictures.asked import group_names
from eptaro.pictures.groups import titled
from eptaro.pictures.page import Page, numbered
from eptaro.pictures.style import ACCENT, EARLIER, INK, SOFT, WARM
from eptaro.pictures.words import elided, written

_MOST = 30


def _changes(table: Table, name: str) -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray]:
    """Return the groups of the last period, and their values, prior values and changes."""
    names = group_names(table)
    if not names:
        raise QuestionError("changes by group need groups; name a column in by")
    last = table.column("period").to_list()[-1] if "calendar" not in names else None
    periods = table.column("period").to_list()
    mine = np.flatnonzero([last is None or period == last for period in periods])
    keys = [*zip(*(table.column(n).to_list() for n in names), strict=True)]
    if "calendar" in names and len(mine) != len(set(keys)):
        raise QuestionError("changes by group take one period each; ask with to_date=True")
    part = table.take(mine)
    columns = [part.column(n).numbers() for n in (name, f"{name}_prior", f"{name}_change")]
    return [titled(keys[i]) for i in mine], columns[0], columns[1], columns[2]


def _headed(table: Table, name: str, change: np.ndarray, now: np.ndarray) -> tuple[str, str]:
    """Return a title that states the whole change, and the spans below it."""
    row = {c.name: c.to_list()[-1] for c in table.columns}
    column = table.column(name)
    whole = np.nansum(change)
    before = np.nansum(now) - whole
    ratio = f" ({whole / abs(before):+.1%})" if before else ""
    several = len(set(table.column("first").to_list())) > 1 and "calendar" in table
    said = f"{row['period']} against {row['prior_period']}"
    if several:
        said = "each in its own period"
    title = f"{name}, {said}: {'up' if whole >= 0 else 'down'} {written(column, abs(whole))}{ratio}"
    spans = f"{row['first']} to {row['last']} against {row['prior_first']} to {row['prior_last']}"
    blank = int(np.isnan(change).sum())
    more = f"; {blank} groups are not comparable" if blank else ""
    return title, (spans if not several else "to date, each against its own counterpart") + more


def draw_changes(table: Table, path: str | Path, name: str) -> Path:
    """Draw each group's change as a bar to the left or right, the largest gain on top."""
    words, now, _, change = _changes(table, name)
    title, below = _headed(table, name, change, now)
    page = Page(table, title, below)
    order = [i for i in np.argsort(change, kind="stable") if change[i] == change[i]]
    if len(order) > _MOST:
        page.note(f"the {_MOST} largest changes of {len(order)} groups are drawn")
        largest = set(np.argsort(-np.abs(np.nan_to_num(change)), kind="stable")[:_MOST].tolist())
        order = [i for i in order if i in largest]
    axes = page.axes(left=0.21)
    axes.grid(visible=False)
    axes.grid(axis="x", color="#e3dfd6", lw=0.8)
    y, values = np.arange(len(order)), change[order]
    axes.barh(y, values, color=np.where(values < 0, WARM, ACCENT), height=0.72)
    axes.axvline(0, color=SOFT, lw=1)
    column = table.column(name)
    for at, value in zip(y, values, strict=True):
        axes.annotate(
            written(column, value),
            (value, at),
            va="center",
            size=9,
            color=INK,
            ha="left" if value >= 0 else "right",
            xytext=(5 if value >= 0 else -5, 0),
            textcoords="offset points",
        )
    axes.set_yticks(y, [elided(words[i]) for i in order])
    axes.margins(x=0.16)
    axes.set_ylim(-0.6, max(len(order), 3) - 0.4)
    numbered(axes, column, "x")
    return page.save(path)


def draw_steps(table: Table, path: str | Path, name: str) -> Path:
    """Draw the way from the prior value of all groups to the current one, group by group."""
    words, now, prior, change = _changes(table, name)
    title, below = _headed(table, name, change, now)
    page = Page(table, title, below)
    fair = ~np.isnan(change)
    order = [i for i in np.argsort(-np.abs(np.nan_to_num(change)), kind="stable") if fair[i]]
    steps = [(elided(words[i], 18), change[i]) for i in order[: _MOST // 2]]
    rest = sum(change[i] for i in order[_MOST // 2 :])
    if len(order) > _MOST // 2:
        steps.append((f"{len(order) - _MOST // 2} others", rest))
    start, stop = float(prior[fair].sum()), float(now[fair].sum())
    axes, column = page.axes(bottom=0.24), table.column(name)
    axes.bar([0], [start], color=EARLIER[1], width=0.7)
    level = start
    for at, (_, value) in enumerate(steps, 1):
        axes.bar([at], [value], bottom=[level], color=WARM if value < 0 else ACCENT, width=0.7)
        axes.plot([at - 1.35, at + 0.35], [level, level], color=SOFT, lw=0.8)
        level += value
        axes.annotate(
            written(column, value),
            (at, max(level, level - value)),
            ha="center",
            size=8,
            color=INK,
            xytext=(0, 4),
            textcoords="offset points",
        )
    axes.bar([len(steps) + 1], [stop], color=EARLIER[1], width=0.7)
    row = {c.name: c.to_list()[-1] for c in table.columns}
    ends = ["before", "now"]
    if "calendar" not in table:
        ends = [str(row["prior_period"]), str(row["period"])]
    labels = [ends[0], *(word for word, _ in steps), ends[1]]
    axes.set_xticks(range(len(labels)), labels, rotation=32, ha="right", rotation_mode="anchor")
    heights = [start, stop, *(start + np.cumsum([value for _, value in steps]))]
    spread = max(heights) - min(heights)
    if min(heights) > 0 and spread < 0.5 * max(heights):
        axes.set_ylim(max(min(heights) - 1.2 * spread, 0), max(heights) + 0.15 * spread)
        page.note("the scale does not begin at 0")
    for at, value in ((0, start), (len(labels) - 1, stop)):
        axes.annotate(
            written(column, value),
            (at, value),
            ha="center",
            size=9,
            color=INK,
            weight="bold",
            xytext=(0, 4),
            textcoords="offset points",
        )
    numbered(axes, column)
    return page.save(path)
