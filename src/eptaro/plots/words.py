"""Words and numbers in pictures: shortened, thinned out, never one over the other."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.results.column import Column
from eptaro.core.results.format import format_like, with_plus

_SCALES = ((1e12, "T"), (1e9, "B"), (1e6, "M"), (1e3, "k"))
_WRITTEN_OUT = 100_000  # numbers below it have no more than six letters


def elide(text: str, most: int = 26) -> str:
    """Return a text of at most so many letters, its middle left out where it is longer.

    >>> elide("The Very Long Name of a Harbour", 15)
    'The Ver…Harbour'
    """
    if len(text) <= most:
        return text
    head = (most - 1) // 2
    return f"{text[:head]}…{text[len(text) - (most - 1 - head) :]}"


def shorten_distinctly(texts: Sequence[str], most: int) -> list[str]:
    """Return texts of at most so many letters of which none looks like another that it is not:
    where the middle is what differs, it stays, and what they begin with is left out.

    >>> shorten_distinctly(["Warehouse 12 north-east", "Warehouse 13 north-east"], 15)
    ['…12 north-east', '…13 north-east']
    """
    short = [elide(text, most) for text in texts]
    alike: dict[str, list[str]] = {}
    for text, word in dict.fromkeys(zip(texts, short, strict=True)):
        alike.setdefault(word, []).append(text)
    words: dict[str, str] = {}
    for word, words_alike in alike.items():
        same = _alike_to(words_alike)
        if len(words_alike) == 1 or same < 2:
            words |= dict.fromkeys(words_alike, word)
            continue
        begin = max(words_alike[0].rfind(mark, 0, same) + 1 for mark in " -_,")
        cut = begin if same - begin < most // 2 and begin > 1 else same
        words |= zip(
            words_alike,
            shorten_distinctly([f"…{text[cut:]}" for text in words_alike], most),
            strict=True,
        )
    counts: dict[str, int] = {}
    for text, word in words.items():  # two that end alike may begin unlike
        counts[word] = counts.get(word, 0) + 1
        if counts[word] > 1:
            tail = f" ({counts[word]})"
            words[text] = elide(word, max(most - len(tail), 1)) + tail
    return [words[text] for text in texts]


def _alike_to(texts: Sequence[str]) -> int:
    """Return how many letters texts begin with in common."""
    low, high = min(texts), max(texts)
    pairs = enumerate(zip(low, high, strict=False))
    return next((at for at, (one, two) in pairs if one != two), min(len(low), len(high)))


def compact(value: float, column: Column | None = None) -> str:
    """Return a number short enough for an axis, with its column's sign or percent.

    >>> compact(1_250_000), compact(-300), compact(0.5)
    ('1.25M', '-300', '0.5')
    """
    form = column.format if column is not None else None
    if (form and form.percent) or (column is not None and column.unit in ("share", "ratio")):
        return f"{100 * value:,.4g}%"
    sign = form.sign if form else ""
    minus, size = ("-" if value < 0 else ""), abs(value)
    for scale, letter in _SCALES:
        if size >= scale * 0.9995:
            return f"{minus}{sign}{size / scale:.3g}{letter}"
    return f"{minus}{sign}{size:.3g}"


def of_one_size(values: Sequence[float], column: Column | None = None) -> list[str]:
    """Return numbers short enough for cells, all in one scale and with as many decimals.

    Thousands are written out, so that 126 beside 7,598 is not 0.13k.

    >>> of_one_size([1250.0, 90.4, float("nan")]), of_one_size([125_000.0, 90.4])
    (['1,250', '90', ''], ['125k', '0k'])
    """
    finite = [abs(value) for value in values if value == value]
    most = max(finite, default=0.0)
    form = column.format if column is not None else None
    if (form and form.percent) or (column is not None and column.unit in ("share", "ratio")):
        return ["" if value != value else f"{100 * value:.1f}%" for value in values]
    large = next((pair for pair in _SCALES if most >= pair[0]), (1.0, ""))
    scale, letter = large if most >= _WRITTEN_OUT else (1.0, "")
    whole = all(value == int(value) for value in finite) and not letter
    places = 0 if whole else max(3 - len(f"{most / scale:.0f}"), 0)
    sign = form.sign if form else ""
    return [
        ""
        if value != value
        else f"{'-' if value < 0 else ''}{sign}{abs(value) / scale:,.{places}f}{letter}"
        for value in values
    ]


def format_numbers(column: Column, values: NDArray[np.float64]) -> list[str]:
    """Return numbers as the table writes those of a column. `values` is `(n,)`."""
    return [text or "no value" for text in format_like(column, values.tolist())]


def format_number(column: Column, value: float) -> str:
    """Return a number as the table writes those of a column."""
    return format_like(column, [value])[0] or "no value"


def format_change(column: Column, value: float) -> str:
    """Return a change as it is written, with a sign of its own."""
    return with_plus(format_number(column, value))


def spread_apart(places: Sequence[float], least: float) -> list[float]:
    """Return places moved apart upwards so that each is at least so far from the one below.

    >>> spread_apart([1.0, 1.1, 5.0], 1.0)
    [1.0, 2.0, 5.0]
    """
    order = sorted(range(len(places)), key=lambda at: places[at])
    shifts = [0.0] * len(places)
    last = -np.inf
    for at in order:
        last = max(places[at], last + least)
        shifts[at] = float(last)
    return shifts


def end_labels(
    page: Any, axes: Any, ends: Sequence[tuple[float, float, str, str]], *, right: float
) -> None:
    """Write labels at the right edge of axes for lines that end there or before.

    Each has the end of its line (across and up), its words and colour. Labels that would touch
    are moved apart, up and then down where the axes end; a thin rule leads to each.
    """
    ends = [end for end in ends if end[1] == end[1]]
    if not ends:
        return
    low, high = axes.get_ylim()
    tall = page.dots(axes)[1]
    least = (high - low) * 15 / tall
    places = spread_apart([y for _, y, _, _ in ends], least)
    over = max(places) - (high - least / 3)
    if over > 0:  # no room above: pack them from the top downwards
        flipped = spread_apart([-min(place, high - least / 3) for place in places], least)
        places = [-place for place in flipped]
    for (x, y, words, colour), place in zip(ends, places, strict=True):
        axes.plot([x, right], [y, place], color=colour, lw=0.6, alpha=0.7, clip_on=False)
        axes.annotate(
            words,
            (right, place),
            xytext=(4, 0),
            textcoords="offset points",
            va="center",
            size=9,
            color=colour,
            annotation_clip=False,
            zorder=22,
        )
