"""The look that all pictures share: restrained, legible in print, safe for colour-blind readers."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

from eptaro.errors import InputError, unknown
from eptaro.outputs.files import replace_whole

ENDINGS = (".png", ".svg", ".pdf")
INK, SOFT, FAINT, PAPER = "#22262b", "#6b727b", "#e3dfd6", "#fbfaf7"
BLACK = "#0d0f12"  # for figures on shaded ground
ACCENT, WARM, COOL = "#1f5a7a", "#b3541e", "#dbe7ee"
EARLIER = ("#7a858f", "#a5adb4", "#c3c9cd", "#d8dcdf")  # prior periods, the nearest first
SHADES = ("#f1eee6", "#cfdde3", "#94b6c6", "#4f87a3", "#1f5a7a", "#0f3248")


def new_figure(width: float = 12.8, height: float = 8.0) -> Any:
    """Return an empty figure of a size in inches (100 dots each); needs Matplotlib."""
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise InputError(
            "drawing needs the package matplotlib; install it with: pip install 'eptaro[pictures]'"
        ) from None
    return Figure(figsize=(width, height), dpi=100, facecolor=PAPER)


def shades() -> Any:
    """Return the colours from little to much; blank is paper."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("eptaro", SHADES).with_extremes(bad=PAPER)


def check_ending(path: str | Path) -> Path:
    """Return the path when its ending is one that can be drawn to, or raise `InputError`."""
    target = Path(path)
    if target.suffix.lower() not in ENDINGS:
        raise InputError(f"{target}: {unknown('picture ending', target.suffix, ENDINGS)}")
    return target


def save(figure: Any, path: str | Path) -> Path:
    """Save a figure whole or not at all; the ending decides the form."""
    target = check_ending(path)

    def fill(beside: Path) -> None:
        with warnings.catch_warnings():  # a letter that no font has is drawn as a box
            warnings.filterwarnings("ignore", "Glyph .* missing")
            form = target.suffix.lower()[1:]
            figure.savefig(beside, format=form, facecolor=figure.get_facecolor())

    return replace_whole(target, fill)
