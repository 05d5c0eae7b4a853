"""Themes of pictures: light, dark and print; and the options of pictures."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, get_args

from eptaro.errors import InputError, QuestionError, unknown
from eptaro.presentation import ThemeName
from eptaro.record import Record, record

ENDINGS = (".png", ".svg", ".pdf")
_LEAST, _MOST = 320, 4000  # pixels of a side


@record
class Theme(Record):
    """The colours of a picture.

    Those of text differ from the paper by a contrast of at least 4.5 (W3C, Web Content
    Accessibility Guidelines 2.1, criterion 1.4.3). `lines` distinguish groups  for colour-blind
    readers as well, `shades` run from little to much, `earlier` are prior periods, nearest first.
    """

    paper: str
    ink: str
    soft: str
    faint: str
    accent: str
    warm: str
    cool: str
    earlier: tuple[str, ...]
    lines: tuple[str, ...]
    shades: tuple[str, ...]

    def shading(self) -> Any:
        """Return the colours from little to much; blank is paper."""
        from matplotlib.colors import LinearSegmentedColormap

        shades = LinearSegmentedColormap.from_list("eptaro", self.shades)
        return shades.with_extremes(bad=self.paper)


def light_of(colour: Sequence[float]) -> float:
    """Return the relative luminance of a colour in sRGB, parts 0 to 1 (W3C, Web Content
    Accessibility Guidelines 2.1, "relative luminance").
    """
    parts = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in colour[:3]]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def ink_on(shade: Sequence[float]) -> str:
    """Return black or white, whichever has more contrast on a shade: 4.5 or more.

    >>> ink_on((0.12, 0.35, 0.48)), ink_on((0.58, 0.71, 0.78))
    ('#ffffff', '#000000')
    """
    light = light_of(shade) + 0.05
    return "#ffffff" if 1.05 / light > light / 0.05 else "#000000"


LIGHT = Theme(
    "#fbfaf7",
    "#22262b",
    "#5f666f",
    "#e3dfd6",
    "#1f5a7a",
    "#a8480f",
    "#dbe7ee",
    ("#7a858f", "#a5adb4", "#c3c9cd", "#d8dcdf"),
    ("#1f5a7a", "#a8480f", "#4d6b1f", "#7b3f8c", "#8a5a00", "#0f6b60"),
    ("#f1eee6", "#cfdde3", "#94b6c6", "#4f87a3", "#1f5a7a", "#0f3248"),
)
DARK = Theme(
    "#15191e",
    "#eceae4",
    "#a3abb3",
    "#31373f",
    "#7cc0e4",
    "#f0a067",
    "#24384a",
    ("#8b949c", "#69727a", "#50575e", "#3d444a"),
    ("#7cc0e4", "#f0a067", "#b3d273", "#d6a4e6", "#e6c46a", "#72d3c2"),
    ("#1d242b", "#234052", "#2f6480", "#4d90b3", "#8cc6e3", "#dff1fb"),
)
PRINT = Theme(
    "#ffffff",
    "#000000",
    "#4a4a4a",
    "#dcdcdc",
    "#1b1b1b",
    "#6e3b12",
    "#e4e4e4",
    ("#6f6f6f", "#979797", "#b9b9b9", "#d2d2d2"),
    ("#1b1b1b", "#6e3b12", "#3d5a80", "#5f5f5f", "#2f6b4f", "#6b4c7a"),
    ("#f5f5f5", "#d9d9d9", "#b3b3b3", "#7d7d7d", "#4a4a4a", "#161616"),
)
_THEMES: dict[ThemeName, Theme] = {"light": LIGHT, "dark": DARK, "print": PRINT}


@record
class PictureOptions(Record):
    """What may be chosen about a picture; see `Table.plot`."""

    kind: str | None = None
    measure: str | None = None
    title: str | None = None
    unit: str = ""
    size: tuple[int, int] = (1280, 800)
    theme: ThemeName = "light"

    def __post_init__(self) -> None:
        if self.theme not in _THEMES:
            raise QuestionError(unknown("theme", self.theme, get_args(ThemeName)))
        whole = isinstance(self.size, tuple | list) and len(self.size) == 2
        if not whole or not all(isinstance(n, int) and _LEAST <= n <= _MOST for n in self.size):
            raise QuestionError(
                f"size={self.size!r} must be width and height in pixels, each {_LEAST} to {_MOST:,}"
            )

    @property
    def colours(self) -> Theme:
        """The colours of its theme."""
        return _THEMES[self.theme]


def check_ending(path: str | Path) -> Path:
    """Return the path when its ending is one that can be drawn to, or raise `InputError`."""
    target = Path(path)
    if target.suffix.lower() not in ENDINGS:
        raise InputError(f"{target}: {unknown('picture ending', target.suffix, ENDINGS)}")
    return target


def new_figure(size: tuple[int, int], paper: str) -> Any:
    """Return an empty figure of a size in pixels, 100 to the inch; needs Matplotlib."""
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise InputError(
            "drawing needs the package matplotlib; install it with: pip install 'eptaro[pictures]'"
        ) from None
    return Figure(figsize=(size[0] / 100, size[1] / 100), dpi=100, facecolor=paper)
