"""Box pictures: quartiles, whiskers and how many values lie beyond."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from eptaro.core.tables.column import Column
from eptaro.core.tables.format import rounded
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Spread
from eptaro.pictures.groups import asked_of, group_names, panels_of
from eptaro.pictures.page import Page
from eptaro.pictures.series import bar_edges
from eptaro.pictures.timeaxis import Marks, set_marks
from eptaro.pictures.words import compact


def draw_boxes(table: Table, page: Page, measures: Sequence[str]) -> None:
    """Draw one box per row: quartiles, median, whiskers, and the outliers as a number."""
    measured, by = asked_of(table, Spread).column, group_names(table)
    key = next((n for n in table.names[: table.names.index("entries")] if n not in by), None)
    of = f" by {key.replace('_', ' ')}" if key else ""
    page.say(
        f"how {measured} is distributed{of}: a box holds half of the values, its line is the "
        f"median; whiskers reach the furthest within 1.5 boxes, above is how many lie beyond"
    )
    for axes, part, _ in panels_of(page, table, ["median"]):
        _boxes(page, axes, part, key)


def _boxes(page: Page, axes: Any, part: Table, key: str | None) -> None:
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
            f"{words[at]} {row['entries']:,} values: half from {rounded(low, 2)} to "
            f"{rounded(high, 2)}, "
            f"median {rounded(row['median'], 2)}, {row['outliers']:,} beyond".strip(),
        )
        axes.plot([at - 0.31, at + 0.31], [row["median"]] * 2, color=theme.accent, lw=2.4)
        if room > 52:
            _figure(axes, at, row["high"], f"+{row['outliers']:,}", theme.soft, 4, "bottom")
            _figure(axes, at, row["median"], compact(row["median"]), theme.ink, -3, "top")
    marks = Marks([float(at) for at in range(len(words))], words)
    set_marks(page, axes, marks, *bar_edges(len(words)))
    page.numbered(axes, Column.of("", "float", [0.0]))
    axes.margins(y=0.1)


def _figure(axes: Any, at: int, y: float, text: str, colour: str, up: int, va: str) -> None:
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
