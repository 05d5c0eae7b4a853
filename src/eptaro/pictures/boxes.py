"""Box pictures: quartiles, whiskers and how many values lie beyond."""

from __future__ import annotations

from pathlib import Path

from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.core.verbs.spread import Spread
from eptaro.pictures.asked import asked_of, group_names
from eptaro.pictures.bars import bar_edges
from eptaro.pictures.groups import panels_of
from eptaro.pictures.page import Page, marked, numbered
from eptaro.pictures.style import ACCENT, COOL, INK, SOFT
from eptaro.pictures.words import compact, thinned


def draw_boxes(table: Table, path: str | Path, name: str) -> Path:
    """Draw one box per row: quartiles, median, whiskers, and the outliers as a number."""
    measured, by = asked_of(table, Spread).column, group_names(table)
    medians = table.column("median").numbers()
    key = next((n for n in table.names[: table.names.index("entries")] if n not in by), None)
    labels = [""] * len(table) if key is None else [str(w) for w in table.column(key).to_list()]
    of = f" by {key.replace('_', ' ')}" if key and key != "period" else ""
    top = int(medians.argmax())
    most = f": the median is highest on {labels[top]}" if of and not by else ""
    page = Page(
        table,
        f"How {measured} is distributed{of}{most}",
        "box: half of the values, line: median; whiskers: the furthest within 1.5 boxes; "
        "above: how many lie beyond",
    )
    for axes, part in panels_of(page, table, "entries"):
        own = [""] * len(part) if key is None else [str(w) for w in part.column(key).to_list()]
        room = axes.get_position().width * 1280
        for at, row in enumerate(part.rows()):
            for ends in (("low", "quartile_1"), ("quartile_3", "high")):
                axes.plot([at, at], [row[end] for end in ends], color=SOFT, lw=1)
            for end in ("low", "high"):
                axes.plot([at - 0.18, at + 0.18], [row[end]] * 2, color=SOFT, lw=1)
            axes.bar(
                [at],
                [row["quartile_3"] - row["quartile_1"]],
                bottom=[row["quartile_1"]],
                width=0.62,
                facecolor=COOL,
                edgecolor=ACCENT,
                lw=1,
            )
            axes.plot([at - 0.31, at + 0.31], [row["median"]] * 2, color=ACCENT, lw=2.4)
            if room / len(part) > 46:
                axes.annotate(
                    f"+{row['outliers']:,}",
                    (at, row["high"]),
                    xytext=(0, 4),
                    size=8.5,
                    textcoords="offset points",
                    ha="center",
                    color=SOFT,
                )
                axes.annotate(
                    compact(row["median"]),
                    (at, row["median"]),
                    xytext=(0, -3),
                    size=8.5,
                    textcoords="offset points",
                    ha="center",
                    va="top",
                    color=INK,
                )
        places = thinned(own, room)
        marked(axes, places, [own[i] for i in places], *bar_edges(len(own)))
        numbered(axes, Column.of("", "float", [0.0]))
        axes.margins(y=0.1)
    return page.save(path)
