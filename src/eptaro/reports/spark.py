"""A trend as small as a word: the last values of a measure as a line."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

_WIDE, _HIGH, _EDGE = 200, 40, 4


def spark(values: Sequence[float], words: str) -> str:
    """Return values as a small line in SVG, its end marked; `words` tell it without seeing.

    >>> spark([1.0, 3.0], "from 1 to 3").count("<circle")
    1
    """
    known = [(at, value) for at, value in enumerate(values) if value == value]
    if len(known) < 2:
        return ""
    low, high = (end(value for _, value in known) for end in (min, max))
    low = min(low, 0.0) if low < 0.6 * high else low
    wide = (_WIDE - 2 * _EDGE) / (len(values) - 1)
    tall = (_HIGH - 2 * _EDGE) / ((high - low) or 1.0)
    points = [(_EDGE + at * wide, _HIGH - _EDGE - (value - low) * tall) for at, value in known]
    line = " ".join(f"{x:.1f},{y:.1f}" for x, y in points)
    x, y = points[-1]
    return (
        f'<svg class="spark" role="img" aria-label="{escape(words)}" '
        f'viewBox="0 0 {_WIDE} {_HIGH}" width="{_WIDE}" height="{_HIGH}">'
        f'<polyline fill="none" stroke="currentColor" stroke-width="1.6" points="{line}"/>'
        f'<circle cx="{x:.1f}" cy="{y:.1f}" r="3" fill="currentColor"/></svg>'
    )
