"""The look that all pictures share: restrained, legible in print, safe for colour-blind readers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eptaro.core.errors import InputError, unknown
from eptaro.outputs.files import replace_whole

ENDINGS = (".png", ".svg", ".pdf")
INK, SOFT, FAINT, PAPER = "#22262b", "#6b727b", "#e9e6df", "#fbfaf7"
ACCENT, WARM, COOL = "#1f5a7a", "#b3541e", "#dbe7ee"


def new_figure(width: float = 12.8, height: float = 8.0) -> Any:
    """Return an empty figure of a size in inches (100 dots each); needs Matplotlib."""
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise InputError(
            "drawing needs the package matplotlib; install it with: pip install 'eptaro[pictures]'"
        ) from None
    return Figure(figsize=(width, height), dpi=100, facecolor=PAPER)


def save(figure: Any, path: str | Path) -> Path:
    """Save a figure whole or not at all; the ending decides the form."""
    target = Path(path)
    ending = target.suffix.lower()
    if ending not in ENDINGS:
        raise InputError(f"{target}: {unknown('picture ending', target.suffix, ENDINGS)}")

    def fill(beside: Path) -> None:
        figure.savefig(beside, format=ending[1:], facecolor=figure.get_facecolor())

    return replace_whole(target, fill)
