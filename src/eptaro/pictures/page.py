"""The page of a picture: what it finds as its title, what it shows below, and the footer."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.pictures.style import FAINT, INK, PAPER, SOFT, new_figure, save
from eptaro.pictures.words import compact, elided

LEFT, RIGHT, BOTTOM, TOP = 0.075, 0.965, 0.12, 0.85
MOST_PANELS = 24
_ACROSS = ((1, 1), (4, 2), (9, 3), (16, 4), (MOST_PANELS, 6))  # panels in a row
_TITLE, _TITLE_WIDTH, _WIDE = 17, 104, 195


class Page:
    """One picture: a title that states the finding, a line on what is shown, a footer."""

    def __init__(self, table: Table, title: str, below: str) -> None:
        self.figure = new_figure()
        self._footer = table.footer()
        size = min(_TITLE, _TITLE * _TITLE_WIDTH / max(len(title), 1))
        self.figure.text(
            0.03, 0.945, elided(title, 190), size=max(size, 9.5), weight="bold", color=INK
        )
        self.figure.text(0.03, 0.908, elided(below, 170), size=10.5, color=SOFT)

    def note(self, text: str) -> None:
        """Add a remark to the footer."""
        self._footer = f"{text} · {self._footer}" if self._footer else text

    def axes(
        self, left: float = LEFT, right: float = RIGHT, bottom: float = BOTTOM, top: float = TOP
    ) -> Any:
        """Return axes over the room between title and footer."""
        return calm(self.figure.add_axes((left, bottom, right - left, top - bottom)))

    def panels(self, names: Sequence[str], *, same_scale: bool = True) -> list[Any]:
        """Return one small pair of axes per name, in rows, under their names."""
        count = len(names)
        across = next(across for most, across in _ACROSS if count <= most)
        down = math.ceil(count / across)
        wide, high = (RIGHT - LEFT + 0.03) / across, (TOP - BOTTOM + 0.03) / down
        made: list[Any] = []
        for place, name in enumerate(names):
            row, column = divmod(place, across)
            box = (
                LEFT + column * wide,
                TOP + 0.03 - (row + 1) * high + 0.045,
                wide - 0.035,
                high - 0.085,
            )
            shared = made[0] if made and same_scale else None
            axes = calm(self.figure.add_axes(box, sharey=shared))
            if name:
                letters = int((wide - 0.035) * 1280 / 7.8)
                axes.set_title(
                    elided(name, letters), size=9.5, loc="left", color=INK, pad=4, weight="bold"
                )
            if column and same_scale:
                axes.tick_params(labelleft=False)
            made.append(axes)
        return made

    def save(self, path: str | Path) -> Path:
        """Write the footer and save."""
        lines = textwrap.wrap(self._footer, _WIDE)[:3]
        for number, line in enumerate(reversed(lines)):
            self.figure.text(0.03, 0.018 + 0.019 * number, line, size=8.5, color=SOFT)
        return save(self.figure, path)


def calm(axes: Any) -> Any:
    """Return axes without a frame, with faint rules across."""
    axes.set_facecolor(PAPER)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(SOFT)
    axes.tick_params(colors=SOFT, labelsize=9, length=0, pad=5)
    axes.grid(axis="y", color=FAINT, lw=0.8)
    axes.set_axisbelow(True)
    return axes


def numbered(axes: Any, column: Column, side: str = "y") -> None:
    """Write an axis's numbers short, with the sign of their column."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    axis = axes.yaxis if side == "y" else axes.xaxis
    axis.set_major_locator(MaxNLocator(6, integer=column.kind == "integer"))
    axis.set_major_formatter(FuncFormatter(lambda value, _: compact(value, column)))


def marked(axes: Any, places: Sequence[float], labels: Sequence[str], lo: float, hi: float) -> None:
    """Set the range of the axis across and write labels on it, the outermost ones inwards."""
    axes.set_xlim(lo, hi)
    axes.set_xticks(places, labels)
    per_dot = (hi - lo) / (axes.get_position().width * 1280)
    for place, text in zip(places, axes.get_xticklabels(), strict=True):
        half = len(text.get_text()) * 3.2 * per_dot
        if place - half < lo:
            text.set_ha("left")
        elif place + half > hi:
            text.set_ha("right")
