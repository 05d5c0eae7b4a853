"""The page of a picture: the finding as its title, what it shows below, small print at the foot."""

from __future__ import annotations

import io
import re
import textwrap
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from eptaro.core.results.column import Column
from eptaro.core.results.format import escape_controls
from eptaro.core.results.result import Result
from eptaro.outputs.files import replace_whole
from eptaro.plots.theme import PictureOptions, Theme, check_ending, new_figure
from eptaro.plots.words import compact, shorten_distinctly
from eptaro.presentation.headline import footer, headline

_SVG = "http://www.w3.org/2000/svg"
_NO_DATES: dict[str, dict[str, None]] = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}
_LINK = "http://www.w3.org/1999/xlink"
_USED = (f"{{{_SVG}}}use", f"{{{_SVG}}}path")

Tips = Mapping[str, Sequence[str]]


def save(figure: Any, path: str | Path, tips: Tips) -> Path:
    """Save a figure whole or not at all; the ending decides the form."""
    target = check_ending(path)
    form = target.suffix.lower()[1:]

    def fill(beside: Path) -> None:
        if form == "svg":
            beside.write_text(as_svg(figure, tips), encoding="utf-8")
        else:
            _write_figure(figure, beside, form)

    return replace_whole(target, fill)


def as_png(figure: Any) -> bytes:
    """Return a figure as PNG."""
    sink = io.BytesIO()
    _write_figure(figure, sink, "png")
    return sink.getvalue()


def _write_figure(figure: Any, sink: Any, form: str) -> None:
    """Write a figure; the same figure gives the same bytes."""
    from matplotlib import rc_context

    with warnings.catch_warnings(), rc_context({"svg.hashsalt": "eptaro"}):
        warnings.filterwarnings("ignore", "Glyph .* missing")  # it is drawn as a box
        figure.savefig(
            sink, format=form, facecolor=figure.get_facecolor(), metadata=_NO_DATES.get(form)
        )


def as_svg(figure: Any, tips: Tips, prefix: str = "") -> str:
    """Return a figure as SVG with the titles of its marks; a `prefix` keeps the names in it apart
    from those of other figures on the same page.
    """
    sink = io.BytesIO()
    _write_figure(figure, sink, "svg")
    for name, space in (("", _SVG), ("xlink", _LINK)):
        ElementTree.register_namespace(name, space)
    root = ElementTree.fromstring(sink.getvalue())
    for element in root.iter():
        texts = tips.get(element.get("id", ""))
        if texts:
            _title(element, texts)
    text = ElementTree.tostring(root, encoding="unicode")
    if prefix:
        return re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{prefix}", text)
    return f'<?xml version="1.0" encoding="utf-8" standalone="no"?>\n{text}\n'


def _title(group: ElementTree.Element, texts: Sequence[str]) -> None:
    """Give a mark its title, or each of as many marks in a group its own."""
    marks = [group]
    if len(texts) > 1:
        parents = [group, *(part for part in group.iter() if part.tag == f"{{{_SVG}}}g")]
        marks = next(
            (
                title_parts
                for parent in parents
                if len(title_parts := [child for child in parent if child.tag in _USED])
                == len(texts)
            ),
            [],
        )
    for mark, text in zip(marks, texts, strict=False):
        title = ElementTree.Element(f"{{{_SVG}}}title")
        title.text = text
        mark.insert(0, title)


MOST_PANELS = 24
_EDGE, _FOOT = 34, 66  # dots at the sides, and below the axes
_TITLE, _BELOW, _SMALL = 14.0, 10.0, 8.5  # points
_LETTER = 0.88  # pixels of a letter's width for each point of its size
_ACROSS = ((1, 1), (4, 2), (9, 3), (16, 4), (MOST_PANELS, 6))  # panels in a row


class Page:
    """One picture: its parts are placed in pixels, from the bottom left."""

    def __init__(self, table: Result, look: PictureOptions) -> None:
        self.theme: Theme = look.colours
        self.width, self.height = look.size
        self.figure = new_figure(look.size, self.theme.paper)
        self.tips: dict[str, list[str]] = {}
        self._notes: list[str] = []
        self._table, self._look = table, look
        self._below = ""
        self._top = self.height - 22.0
        words = headline(table, look.measure)
        sentence = words or _title_of_rows(table, look)
        self._write_title(look.title or sentence)

    # ---- words ------------------------------------------------------------------

    def _fits(self, points: float, *, room: float | None = None) -> int:
        """Return how many letters of a size fit in a line."""
        free = self.width - 2 * _EDGE if room is None else room
        return max(int(free / (points * _LETTER)), 8)

    def text(self, x: float, y: float, text: str, **style: Any) -> Any:
        """Write a text at a place in pixels."""
        return self.figure.text(x / self.width, y / self.height, escape_controls(text), **style)

    def _write_title(self, words: str) -> None:
        """Write the first sentence, and as many more as a few lines hold: none is cut."""
        size = _TITLE if self.width >= 900 else 12.0
        letters = self._fits(size * 0.9)
        most = 2 if self.width >= 900 else 3
        sentences = [part for part in words.replace(". ", ".\n").split("\n") if part]
        fitting = sentences[:1]
        for sentence in sentences[1:]:
            if len(textwrap.wrap(" ".join([*fitting, sentence]), letters)) > most:
                break
            fitting.append(sentence)
        style = {"size": size, "weight": "bold", "color": self.theme.ink}
        while True:
            lines = textwrap.wrap(" ".join(fitting), letters)
            lines_drawn = [self.text(_EDGE, 0, line, **style) for line in lines]
            widest = max((text.get_window_extent().width for text in lines_drawn), default=0.0)
            if widest <= self.width - 2 * _EDGE or letters <= 12:
                break
            letters -= 3
            for text in lines_drawn:
                text.remove()
        for text in lines_drawn:
            self._top -= size * 1.62
            text.set_y(self._top / self.height)

    def say(self, text: str) -> None:
        """Write what the picture shows, below its title."""
        unit = f", in {self._look.unit}" if self._look.unit else ""
        self._top -= 4
        for line in textwrap.wrap(text + unit, self._fits(_BELOW * 0.86)):
            self._top -= _BELOW * 1.75
            self.text(_EDGE, self._top, line, size=_BELOW, color=self.theme.soft)

    def legend(self, *entries: tuple[str, str, str]) -> None:
        """Write what marks represent: how they are drawn, their colour, and words.

        They are drawn as a `bar`, a `hatched` bar, a `line` or a `dot`.
        """
        from matplotlib.lines import Line2D
        from matplotlib.patches import Rectangle

        self._top -= 21
        x, y = float(_EDGE), self._top
        for form, colour, words in entries:
            width = len(words) * _SMALL * 0.86 + 44
            if x + width > self.width - _EDGE and x > _EDGE:
                x, y = float(_EDGE), y - 17
                self._top = y
            box = (x / self.width, (y + 1) / self.height)
            if form in ("bar", "hatched"):
                hatched = form == "hatched"
                swatch: Any = Rectangle(
                    box,
                    16 / self.width,
                    9 / self.height,
                    facecolor=self.theme.cool if hatched else colour,
                    edgecolor=colour,
                    hatch="////" if hatched else None,
                    lw=0.6,
                )
            else:
                middle = box[1] + 4.5 / self.height
                ends = [box[0], box[0] + 18 / self.width]
                line = form != "dot"
                swatch = Line2D(
                    ends if line else [sum(ends) / 2],
                    [middle, middle] if line else [middle],
                    color=colour,
                    lw=2.4,
                    marker="" if line else "o",
                    ls=":" if form == "dashed" else "-",
                )
            swatch.set_transform(self.figure.transFigure)
            self.figure.add_artist(swatch)
            self.text(x + 23, y, words, size=_SMALL, color=self.theme.ink)
            x += width

    def note(self, text: str) -> None:
        """Add a remark to the small print."""
        if text not in self._notes:
            self._notes.append(text)

    # ---- axes -------------------------------------------------------------------

    def axes(self, left: float = 74, right: float = _EDGE, bottom: float = _FOOT) -> Any:
        """Return axes over the room between the words and the small print."""
        return self._place_axes(left, bottom, self.width - right, self._top - 16)

    def _place_axes(self, x0: float, y0: float, x1: float, y1: float, **shared: Any) -> Any:
        box = (x0 / self.width, y0 / self.height)
        size = (max(x1 - x0, 20) / self.width, max(y1 - y0, 20) / self.height)
        return self._calm(self.figure.add_axes((*box, *size), **shared))

    def panels(
        self,
        names: Sequence[str],
        *,
        same_scale: bool = True,
        across: int | None = None,
        left: float = 62,
        right: float = 12,
        above: float = 0,
    ) -> list[Any]:
        """Return one small pair of axes for each name, in rows, under their names, and with so
        many dots for words `above` them.
        """
        count = len(names)
        if across is None:
            across = next(across for most, across in _ACROSS if count <= most)
            across = max(min(across, int(self.width // 200)), 1)
        down = -(-count // across)
        top, bottom = self._top - 8, _FOOT - 20.0
        wide, high = (self.width - 2 * _EDGE + 20) / across, (top - bottom) / down
        head = above + (22 if any(names) else 4)
        all_axes: list[Any] = []
        letters = self._fits(9.5, room=wide - left - right)
        for place, name in enumerate(shorten_distinctly(names, letters)):
            row, column = divmod(place, across)
            x, y = _EDGE - 10 + column * wide, top - (row + 1) * high
            shared = {"sharey": all_axes[0]} if all_axes and same_scale else {}
            axes = self._place_axes(
                x + left - 10, y + 42, x + wide - right, y + high - head, **shared
            )
            if name:
                style = {"size": 9.5, "color": self.theme.ink, "weight": "bold"}
                axes.set_title(name, loc="left", pad=5 + above * 0.72, **style)
            if column and same_scale:
                axes.tick_params(labelleft=False)
            all_axes.append(axes)
        return all_axes

    def dots(self, axes: Any) -> tuple[float, float]:
        """Return how wide and how high axes are, in pixels."""
        box = axes.get_position()
        return box.width * self.width, box.height * self.height

    def _calm(self, axes: Any) -> Any:
        """Return axes without a frame, with faint rules across."""
        axes.set_facecolor(self.theme.paper)
        for side in ("top", "right", "left"):
            axes.spines[side].set_visible(False)
        axes.spines["bottom"].set_color(self.theme.soft)
        axes.tick_params(colors=self.theme.soft, labelsize=9, length=0, pad=5)
        axes.grid(axis="y", color=self.theme.faint, lw=0.8)
        axes.set_axisbelow(True)
        return axes

    def format_axis(self, axes: Any, column: Column, side: str = "y") -> None:
        """Write an axis's numbers short, with the sign of their column."""
        from matplotlib.ticker import FuncFormatter, MaxNLocator

        axis = axes.yaxis if side == "y" else axes.xaxis
        room = self.dots(axes)[side == "y"]
        bins = max(min(6, int(room // (34 if side == "y" else 64))), 2)
        axis.set_major_locator(MaxNLocator(bins, integer=column.kind == "integer"))
        axis.set_major_formatter(FuncFormatter(lambda value, _: compact(value, column)))

    # ---- marks ------------------------------------------------------------------

    def tip(self, artist: Any, *texts: str) -> None:
        """Give a mark, or each mark of a row of them, the words that show when pointed at."""
        gid = f"mark-{len(self.tips)}"
        artist.set_gid(gid)
        self.tips[gid] = list(texts)

    def tip_points(self, axes: Any, x: Any, y: Any, texts: Sequence[str]) -> None:
        """Put points that cannot be seen on a line, each with its words."""
        filled = [at for at in range(len(texts)) if y[at] == y[at]]
        if filled:
            (points,) = axes.plot(
                [x[i] for i in filled], [y[i] for i in filled], "o", ms=7, alpha=0.0, zorder=30
            )
            self.tip(points, *(texts[i] for i in filled))

    # ---- out --------------------------------------------------------------------

    def finish(self) -> None:
        """Write the small print."""
        source = _short_source(str(self._table.meta.get("source") or ""))
        parts = [*self._notes, *([f"source: {source}"] if source else []), footer(self._table)]
        parts = [part for part in parts if part]
        letters = self._fits(_SMALL * 0.8)
        while len(lines := textwrap.wrap(" · ".join(parts), letters)) > 2 and len(parts) > 1:
            parts.pop(-2)  # the footer, which is last, says which days are covered
        for number, line in enumerate(reversed(lines)):
            self.text(_EDGE, 10 + 14 * number, line, size=_SMALL * 0.9, color=self.theme.soft)

    def save(self, path: str | Path) -> Path:
        """Save the picture whole or not at all."""
        return save(self.figure, path, self.tips)

    def svg(self, prefix: str = "") -> str:
        """Return the picture as SVG."""
        return as_svg(self.figure, self.tips, prefix)

    def png(self) -> bytes:
        """Return the picture as PNG."""
        return as_png(self.figure)


def _title_of_rows(table: Result, look: PictureOptions) -> str:
    """Return a title for some rows of an answer, which have no headline: their measures."""
    measures = () if table.answer is None else table.answer.measures
    return look.measure or ", ".join(name.replace("_", " ") for name in measures)


def _short_source(source: str) -> str:
    """Return the names of files without their folders; an address stays as it is.

    >>> _short_source("sales/may.csv and sales/june.csv")
    'may.csv and june.csv'
    """
    parts = source.split(" and ")
    return " and ".join(part if "://" in part else Path(part).name for part in parts)
