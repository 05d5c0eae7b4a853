"""`spread` and `histogram`: box figures of a column, and its values counted in ranges."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.questions.answer import Answered
from eptaro.core.questions.view import Facts
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Histogram, Spread
from eptaro.core.verbs.runs import Runs
from eptaro.errors import QuestionError

_FENCE = 1.5


_USUAL_BINS, _SUITED_BINS = 20, (5, 60)


def spread(facts: Facts, query: Spread) -> Table:
    """Return box figures of a column's values, one row per group and value of `per`."""
    column, per = query.column, query.per
    runs = Runs.of(facts.view(query.by, query.only, query.as_of), column, per)
    values, lo, hi, count = runs.values, runs.lo, runs.hi, runs.count
    quarters = [runs.quantile(share) for share in (0.25, 0.5, 0.75)]
    with np.errstate(over="ignore", invalid="ignore"):  # of values near the ends of floats
        reach = _FENCE * (quarters[2] - quarters[0])
        below, above = quarters[0] - reach, quarters[2] + reach
        mean = np.add.reduceat(values * np.diff(runs.before), lo) / count
    first = runs.places(below[:, None], "left")[:, 0]
    last = runs.places(above[:, None], "right")[:, 0]
    outside = count - (runs.before[last] - runs.before[first])
    figures = {
        "mean": (mean, "Mean of the values"),
        "low": (values[first], "Least value within the lower fence"),
        "quartile_1": (quarters[0], "A quarter of the values lie below"),
        "median": (quarters[1], "Half of the values lie below"),
        "quartile_3": (quarters[2], "Three quarters of the values lie below"),
        "high": (values[last - 1], "Largest value within the upper fence"),
    }
    made = [
        *runs.head(),
        Column.of("entries", "integer", count, description=f"Values of {column}"),
        *(
            Column.of(n, "float", v, np.isfinite(v), description=text)
            for n, (v, text) in figures.items()
        ),
        Column.of("outliers", "integer", outside, description="Values beyond the fences"),
        Column.of("least", "float", values[lo], description="The least value"),
        Column.of("most", "float", values[hi - 1], description="The largest value"),
    ]
    answer = Answered(query, runs.view, runs.group, {}, np.arange(len(lo)))
    return Table(made, runs.view.meta("spread") | {"per": per, "column": column}, answer)


def histogram(facts: Facts, query: Histogram) -> Table:
    """Return how many values of a column lie in each of some equal ranges."""
    column, per = query.column, query.per
    runs = Runs.of(facts.view(query.by, query.only, query.as_of), column, per)
    bins = query.bins or _suited(runs.values, np.diff(runs.before))
    edges = _round_edges(float(runs.values.min()), float(runs.values.max()), bins)
    if not np.isfinite(edges).all():
        raise QuestionError(f"the values of {column!r} lie too far apart for ranges of floats")
    count, rows = len(edges) - 1, len(runs.lo)
    found = runs.places(np.tile(edges, (rows, 1)), "left")
    entries = np.diff(runs.before[found], axis=1).ravel()
    place = np.repeat(np.arange(rows), count)
    bin_ = np.tile(np.arange(count), rows)
    total = runs.count[place]
    made = [
        *(c.take(place) for c in runs.head()),
        Column.of("from", "float", edges[bin_], description=f"The range of {column} begins here"),
        Column.of("to", "float", edges[bin_ + 1], description="and ends below this"),
        Column.of("entries", "integer", entries, description="Values in the range"),
        Column.of("share", "float", entries / total, unit="share", description="Share of the row"),
    ]
    answer = Answered(query, runs.view, runs.group, {}, place)
    return Table(made, runs.view.meta("histogram") | {"per": per, "column": column}, answer)


def _suited(values: NDArray[np.float64], counts: Ints) -> int:
    """Return how many ranges suit some values, each so many times there: ranges twice as wide as
    the middle half over the cube root of their number, but no narrower than 1 for whole numbers.

    >>> _suited(np.arange(1000.0), np.ones(1000, np.int64))
    10
    """
    order = np.argsort(values, kind="stable")
    values, held = values[order], np.cumsum(counts[order])
    low, high = (values[np.searchsorted(held, share * held[-1])] for share in (0.25, 0.75))
    with np.errstate(over="ignore", invalid="ignore"):
        reach, width = values[-1] - values[0], 2 * (high - low) / float(held[-1]) ** (1 / 3)
    if not np.isfinite(reach) or not width > 0:
        return _USUAL_BINS
    if (values == np.floor(values)).all():
        width = max(width, 1.0)
    return int(np.clip(np.ceil(reach / width), *_SUITED_BINS))


def _round_edges(least: float, most: float, bins: int) -> NDArray[np.float64]:
    """Return about so many equal ranges from a round number on that hold least and most.

    >>> _round_edges(1, 13, 2).tolist()
    [0.0, 10.0, 20.0]
    """
    width = (most - least) / bins or max(abs(most), 1.0)
    if not np.isfinite(width):
        return np.full(2, np.inf)
    power = 10.0 ** np.floor(np.log10(width))
    width = power * next(step for step in (1, 2, 2.5, 5, 10) if step * power >= width * 0.999)
    first, last = np.floor(least / width), np.floor(most / width) + 1
    with np.errstate(over="ignore", invalid="ignore"):
        return np.asarray(np.arange(first, last + 1) * width)
