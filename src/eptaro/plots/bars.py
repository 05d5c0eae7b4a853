"""Bars of attributes, of ranges of values, and of periods beside prior ones."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eptaro.core.results.column import Column
from eptaro.core.results.format import format_column, round_away
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Compare, Histogram, Spread
from eptaro.plots.groups import calendar_of, group_names, panels_of, parts_of, query_of
from eptaro.plots.page import MOST_PANELS, Page
from eptaro.plots.series import bar_edges, draw_bars
from eptaro.plots.timeaxis import Marks, set_marks, thinned_periods
from eptaro.plots.words import (
    compact,
    format_number,
    format_numbers,
    of_one_size,
    shorten_distinctly,
)


def draw_attribute(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw one bar for each value of an attribute, such as each weekday."""
    names = group_names(table)
    keys = [c.name for c in table.columns if c.kind == "text" and c.name not in names]
    key = keys[0] if keys else table.names[0]
    drawn_columns = [f"{name}_per_day" if f"{name}_per_day" in table else name for name in measures]
    what = [name.replace("_", " ") for name in drawn_columns]
    by = f", by {' and '.join(names)}" if names else ""
    page.say(f"{', '.join(what)}: each {key.replace('_', ' ')}{by}")
    for axes, part, name in panels_of(page, table, drawn_columns):
        _attribute(page, axes, part, key, name)


def _attribute(page: Page, axes: Any, part: Result, key: str, name: str) -> None:
    column = part.column(name)
    labels = [str(label) for label in part.column(key).to_list()]
    tips = [
        f"{word}: {number}"
        for word, number in zip(labels, format_numbers(column, column.numbers()), strict=True)
    ]
    draw_bars(page, axes, column, tips)
    room = page.dots(axes)[0]
    if max(map(len, labels)) * 6.6 + 10 > room / len(labels) and len(labels) <= 12:
        labels = shorten_distinctly(labels, max(int(room / len(labels) / 6.8), 3))
    words = Marks([float(at) for at in range(len(labels))], labels)
    set_marks(page, axes, words, *bar_edges(len(labels)))


def draw_card(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw one bar for each period that holds the as-of date, as far as it has come."""
    by = group_names(table)
    by = [name for name in by if name != "calendar"]
    each = f", by {' and '.join(by)}" if by else ""
    last = max(table.column("last").to_list())
    page.say(f"{', '.join(measures)}: each period that holds the day, to {last}{each}")
    marks = [("line", page.theme.warm, f"the same days {table.meta.get('back')} before")]
    marks = marks if f"{measures[0]}_prior" in table else []
    if not all(table.column("complete").to_list()):
        marks += [
            ("bar", page.theme.accent, "all days are covered"),
            ("hatched", page.theme.accent, "days are missing"),
        ]
    if marks:
        page.legend(*marks)
    labels = _card_labels(table, 24)
    down = min(max(int((page.height - 190) // (14 * len(labels) + 64)), 1), 3)
    measures_drawn = measures[:1] if by else measures[:down]
    if len(measures_drawn) < len(measures):
        first, verb = (
            ("first", "is") if len(measures_drawn) == 1 else (f"first {len(measures_drawn)}", "are")
        )
        of = f"the {first} of {len(measures)} measures {verb} drawn"
        page.note(f"{of}; choose another with measure=")
    panels = panels_of(
        page,
        table,
        measures_drawn,
        ending="_to_date",
        by=by,
        same_scale=False,
        left=max(map(len, labels)) * 6.8 + 22,
        most=(2, 6, 9)[down - 1],
    )
    for axes, part, name in panels:
        _card(page, axes, part, name, labels)


def _card_labels(table: Result, letters: int) -> list[str]:
    """Return what the periods of a card are called: the same for each group."""
    several = len(set(table.column("calendar").to_list())) > 1
    keys = ("level", "period", *(["calendar"] if several else []))
    texts = zip(*(format_column(table.column(key)) for key in keys), strict=True)
    words = []
    for level, period, *calendar in texts:
        of = [str(level)] if str(period).startswith(str(level)) else [str(level), str(period)]
        words.append(" ".join([*of, *map(str, calendar)]))
    return shorten_distinctly([*dict.fromkeys(words)], letters)


def _card(page: Page, axes: Any, part: Result, name: str, labels: Sequence[str]) -> None:
    column, theme = part.column(f"{name}_to_date"), page.theme
    values = column.numbers()
    words = of_one_size(values.tolist(), column)
    prior = np.full(len(values), np.nan)
    if f"{name}_prior" in part:
        prior = part.column(f"{name}_prior").numbers()
    if f"{name}_change_ratio" in part:
        ratio = part.column(f"{name}_change_ratio")
        rates = format_numbers(ratio, ratio.numbers())
        pairs = zip(words, rates, ratio.blank.tolist(), strict=True)
        words = [word if blank else f"{word} ({rate})" for word, rate, blank in pairs]
    days = zip(part.column("first").to_list(), part.column("last").to_list(), strict=True)
    comparable = part.column("complete").to_list()
    for at, (value, (first, last)) in enumerate(zip(values.tolist(), days, strict=True)):
        style: dict[str, Any] = {"color": theme.accent}
        if not comparable[at]:
            style = {"facecolor": theme.cool, "edgecolor": theme.accent, "hatch": "////"}
        (bar,) = axes.barh([-at], [np.nan_to_num(value)], height=0.7, **style)
        page.tip(bar, f"{labels[at]}, {first} to {last}: {format_number(column, value)}")
        if prior[at] == prior[at]:
            (line,) = axes.plot([prior[at]] * 2, [-at - 0.42, -at + 0.42], color=theme.warm, lw=2)
            page.tip(line, f"{labels[at]}, before: {format_number(column, prior[at])}")
        if value == value:
            place, side = (3, "left") if value >= 0 else (-3, "right")
            style = {"va": "center", "ha": side, "size": 8.5, "color": theme.ink}
            offset = {"xytext": (place, 0), "textcoords": "offset points"}
            ends = np.fmax(value, prior[at]) if value >= 0 else np.fmin(value, prior[at])
            axes.annotate(words[at], (ends, -at), **offset, **style)
    axes.axvline(0, color=theme.soft, lw=0.8)
    axes.grid(visible=False, axis="y")
    axes.grid(axis="x", color=theme.faint, lw=0.8)
    axes.set_yticks(range(0, -len(labels), -1), labels)
    page.format_axis(axes, column, "x")
    low, high = min(np.nanmin(values, initial=0.0), 0.0), max(np.nanmax(values, initial=0.0), 0.0)
    room = max(map(len, words)) * 7.2 + 8
    per_dot = ((high - low) or 1.0) / max(page.dots(axes)[0] - 2 * room, 30)
    axes.set_xlim(low - (room * per_dot if low < 0 else 0), high + room * per_dot)


def draw_against(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw each period's value as a bar, the prior one's as a mark across it."""
    query, theme = query_of(table, Compare), page.theme
    of = query.before if query.against else f"against {query.before} before"
    by = group_names(table)
    each = f", by {' and '.join(by)}" if by else ""
    page.say(f"{', '.join(measures)}: each {query.per} {of}{each}")
    better, worse = "lower", "higher"
    if any(table.column(name).lower_is_better for name in measures):
        better, worse = "worse", "better"
    page.legend(
        ("bar", theme.accent, "the period"),
        ("line", theme.ink, f"the prior one, where it was {better}"),
        ("line", theme.warm, f"the prior one, where it was {worse}"),
        ("hatched", theme.accent, "not comparable"),
    )
    for axes, part, name in panels_of(page, table, measures):
        _draw_against(page, axes, part, query.per, name)


def _draw_against(page: Page, axes: Any, part: Result, per: str, name: str) -> None:
    column, theme = part.column(name), page.theme
    now, prior = column.numbers(), part.column(f"{name}_prior").numbers()
    fair = np.array(part.column("comparable").to_list(), bool)
    labels = format_column(part.column("period"))
    sides = [part.column(n).to_list() for n in ("first", "last", "prior_first", "prior_last")]
    for at, (value, before) in enumerate(zip(now, prior, strict=True)):
        style = {"color": theme.accent}
        if not fair[at]:
            style = {"facecolor": theme.cool, "edgecolor": theme.accent, "hatch": "////"}
        (bar,) = axes.bar(
            [at], [np.nan_to_num(value)], width=0.7, lw=0 if fair[at] else 0.8, **style
        )
        page.tip(
            bar, f"{labels[at]}, {sides[0][at]} to {sides[1][at]}: {format_number(column, value)}"
        )
        if before == before:
            colour = theme.warm if column.is_worse(value - before) else theme.ink
            colour = colour if fair[at] else theme.soft
            (mark,) = axes.plot([at - 0.42, at + 0.42], [before, before], color=colour, lw=2.4)
            page.tip(mark, f"{sides[2][at]} to {sides[3][at]}: {format_number(column, before)}")
    axes.axhline(0, color=theme.soft, lw=0.8)
    first = part.column("first").data.astype(np.int64)
    marks = thinned_periods(calendar_of(part), per, first, labels, page.dots(axes)[0])
    set_marks(page, axes, marks, *bar_edges(len(labels)))
    page.format_axis(axes, column)
    axes.margins(y=0.06)


def draw_histogram(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw how many values lie in each range."""
    query = query_of(table, Histogram)
    width = compact(float(table["to"][0] - table["from"][0]))
    keys = table.names[: table.names.index("from")]
    what = "share" if keys else "entries"
    subject = "share of each panel's values" if keys else "number of values"
    page.say(f"{subject} of {query.column} in ranges of {width}")
    parts = parts_of(table, None, keys)
    if len(parts) > MOST_PANELS:
        page.note(f"the {MOST_PANELS} first of {len(parts):,} are drawn")
        parts = parts[:MOST_PANELS]
    all_axes = page.panels([title for title, _ in parts])
    for axes, (_, part) in zip(all_axes, parts, strict=True):
        first, last = part["from"], part["to"]
        column = part.column(what)
        for a, b, value in zip(first, last, column.numbers(), strict=True):
            (bar,) = axes.bar(
                [a], [value], width=(b - a) * 0.94, align="edge", color=page.theme.accent
            )
            page.tip(bar, f"{compact(a)} to below {compact(b)}: {format_number(column, value)}")
        page.format_axis(axes, column)
        page.format_axis(axes, Column.of("", "float", [0.0]), "x")
        axes.set_xlim(float(first.min()), float(last.max()))


def draw_boxes(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw one box per row: quartiles, median, whiskers, and the outliers as a number."""
    measured, by = query_of(table, Spread).column, group_names(table)
    key = next((n for n in table.names[: table.names.index("entries")] if n not in by), None)
    of = f" by {key.replace('_', ' ')}" if key else ""
    page.say(
        f"how {measured} is distributed{of}: a box holds half of the values, its line is the "
        f"median; whiskers reach the furthest within 1.5 boxes, above is how many lie beyond"
    )
    for axes, part, _ in panels_of(page, table, ["median"]):
        _boxes(page, axes, part, key)


def _boxes(page: Page, axes: Any, part: Result, key: str | None) -> None:
    theme = page.theme
    words = [""] * len(part) if key is None else [str(w) for w in part.column(key).to_list()]
    room = page.dots(axes)[0] / (len(part) + max(5 - len(part), 0))
    for at, row in enumerate(part.rows()):
        for ends in (("low", "quartile_1"), ("quartile_3", "high")):
            axes.plot([at, at], [row[end] for end in ends], color=theme.soft, lw=1)
        for end in ("low", "high"):
            axes.plot([at - 0.18, at + 0.18], [row[end]] * 2, color=theme.soft, lw=1)
        low, high = row["quartile_1"], row["quartile_3"]
        (box,) = axes.bar(
            [at], [high - low], bottom=[low], width=0.62, fc=theme.cool, ec=theme.accent, lw=1
        )
        page.tip(
            box,
            f"{words[at]} {row['entries']:,} values: half from {round_away(low, 2)} to "
            f"{round_away(high, 2)}, "
            f"median {round_away(row['median'], 2)}, {row['outliers']:,} beyond".strip(),
        )
        axes.plot([at - 0.31, at + 0.31], [row["median"]] * 2, color=theme.accent, lw=2.4)
        if room > 52:
            _write_figure(axes, at, row["high"], f"+{row['outliers']:,}", theme.soft, 4, "bottom")
            _write_figure(axes, at, row["median"], compact(row["median"]), theme.ink, -3, "top")
    marks = Marks([float(at) for at in range(len(words))], words)
    set_marks(page, axes, marks, *bar_edges(len(words)))
    page.format_axis(axes, Column.of("", "float", [0.0]))
    axes.margins(y=0.1)


def _write_figure(axes: Any, at: int, y: float, text: str, colour: str, up: int, va: str) -> None:
    axes.annotate(
        text,
        (at, y),
        xytext=(0, up),
        size=8.5,
        textcoords="offset points",
        ha="center",
        va=va,
        color=colour,
    )
