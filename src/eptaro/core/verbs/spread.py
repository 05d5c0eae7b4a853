"""`spread` and `histogram`: quartiles of a column, and its values counted in ranges."""

from __future__ import annotations

from typing import Any, Final, Literal

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.batch import ROWS_PER_CHUNK, Batch
from eptaro.core.calendars.days import Ints
from eptaro.core.dimension.recurring import RECURRING, full_name
from eptaro.core.kernels.order_statistics import interpolate
from eptaro.core.measures.measure import terms_on_totals
from eptaro.core.measures.members import member_totals
from eptaro.core.measures.term import Term
from eptaro.core.query.by_attribute import AttributeProduct, attribute_of, places_of
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.query.transactions import placed_rows
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, with_shown_labels
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Histogram, Spread
from eptaro.errors import QuestionError, show_option, unknown
from eptaro.record import record

_ENDS: Final = ("left", "right")
_ROOM = 1 << 22  # numbers to count by that are never too many


@record
class ValueCounts:
    """Different values in runs `lo`..`hi`, one per group and value of `per`, each in order.

    `before` says how many entries of all runs come before each value, and at last how many
    there are.
    """

    view: View
    crossed: AttributeProduct
    group: Ints
    place: Ints
    values: NDArray[np.float64]
    before: Ints
    lo: Ints
    hi: Ints

    @classmethod
    def of(cls, view: View, name: str, per: str | None) -> ValueCounts:
        """Return the values of a column, by group and value of a level or attribute; or the totals
        that a measure such as `median(sum(fare) per customer)` is made of.
        """
        if (term := terms_on_totals(view.facts.measures).get(name)) is not None:
            return cls._of_totals(view, name, term, per)
        crossed = AttributeProduct.of([_row_labels(view, per)])
        group, batch = placed_rows(view)
        planes = view.facts.cells.tallies
        sources = [p.column for p in planes if p.what not in ("rows", "filled", "codes")]
        if name not in sources:  # of a column that is only counted, no values are read
            sources += terms_on_totals(view.facts.measures)
            raise QuestionError(unknown("column of values", name, sorted(set(sources))))
        run, value, entries = _count_values(view, crossed, group, batch, name)
        if not len(run):
            raise QuestionError(f"{name} has no values in these days")
        numbers = value.astype(np.float64) / 10.0 ** batch.values[name].scale
        lo = np.flatnonzero(np.append(True, run[1:] != run[:-1]))
        hi, before = np.append(lo[1:], len(run)), np.append(0, np.cumsum(entries))
        own_group, place = np.divmod(run[lo], crossed.size)
        return cls(view, crossed, own_group, place, numbers, before, lo, hi)

    @classmethod
    def _of_totals(cls, view: View, name: str, term: Term, per: str | None) -> ValueCounts:
        """Return the totals of each value of a term's column, by group and period."""
        if per is not None and per not in view.calendar.levels:
            raise QuestionError(
                f"{name} is made of totals over days in a row: {show_option('per', per)} is none "
                "of "
                f"{', '.join(view.calendar.levels)}"
            )
        coverage = view.seen
        crossed = AttributeProduct.of([_row_labels(view, per)])
        group, place = np.divmod(np.arange(view.groups.count * crossed.size), crossed.size)
        days = coverage.lo + np.arange(coverage.days)
        first, last = (np.searchsorted(crossed.places, place, side=side) for side in _ENDS)
        spans = view.within_coverage(days[first], days[last - 1])
        bounds = view.cells.axis.bounds(group, *spans)
        parts = [*member_totals(view.cells, term, *bounds)]
        counts = np.concatenate([hi - lo for _, lo, hi in parts])
        run = np.repeat(np.arange(len(counts)), counts)
        numbers = np.concatenate([totals.numbers() for totals, _, _ in parts])
        if not len(run):
            raise QuestionError(f"{name} has no values in these days")
        numbers = numbers[np.lexsort((numbers, run))]
        lo = np.flatnonzero(np.append(True, run[1:] != run[:-1]))
        hi, before = np.append(lo[1:], len(run)), np.arange(len(run) + 1)
        return cls(view, crossed, group[run[lo]], place[run[lo]], numbers, before, lo, hi)

    @property
    def count(self) -> Ints:
        """How many entries each run has."""
        return self.before[self.hi] - self.before[self.lo]

    def quantile(self, share: float) -> NDArray[np.float64]:
        """Return a quantile of each run, interpolated linearly."""
        place = share * (self.count - 1)
        below = place.astype(np.int64)
        above = np.minimum(below + 1, self.count - 1)
        low, high = self._entry(below), self._entry(above)
        return interpolate(low, high, place - below)

    def _entry(self, number: Ints) -> NDArray[np.float64]:
        """Return the value of an entry of each run, counted from 0.

        `number` and the values are `(n_runs,)`.
        """
        at = np.searchsorted(self.before, self.before[self.lo] + number, side="right") - 1
        return self.values[at]

    def places(self, limits: NDArray[np.float64], side: Literal["left", "right"]) -> Ints:
        """Return where limits, one row of them per run, come among the values of the run.

        `limits` and the places are `(n_runs, n_limits)`.
        """
        places_of = [
            start + np.searchsorted(self.values[start:stop], own, side=side)
            for start, stop, own in zip(self.lo.tolist(), self.hi.tolist(), limits, strict=True)
        ]  # a run per value of `per`, of which there are few
        return np.stack(places_of)

    def head(self) -> list[Column]:
        """Return the groups and the value of `per`, where there is one."""
        columns = self.view.groups.columns(self.group)
        if self.crossed.attributes[0].name:
            columns += self.crossed.columns(self.place)
        return columns


def _row_labels(view: View, per: str | None) -> Column:
    """Return what distinguishes rows : an attribute, the periods of a level, or nothing."""
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    if per is None:
        return Column.text("", np.array([""]), np.zeros(len(days), np.int64))
    if per in view.calendar.levels:
        periods = view.calendar.periods(view.seen, per)
        labels = Column.text("period", periods.labels, periods.position_of(days))
        return with_shown_labels(labels, view.calendar)
    if per not in RECURRING:
        levels = (*view.calendar.levels, *RECURRING)
        raise QuestionError(unknown("level or attribute", per, levels))
    return attribute_of(view, full_name(per))


def _count_values(
    view: View, crossed: AttributeProduct, group: NDArray[np.int32], batch: Batch, name: str
) -> tuple[Ints, Ints, Ints]:
    """Return run, value and number of entries of each value that occurs in a run, in order.

    `group` is `(n_rows,)`; the results are `(n_counts,)`.

    A value's place among all that may occur, and its run, make one number, so that counting
    needs no sorting where these numbers are not more than the rows.
    """
    column = batch.values[name]
    data, choices = column.data, None
    runs = view.groups.count * crossed.size
    if column.kind == "float" or _range_width(data) * runs >= 1 << 62:
        choices, data = np.unique(data, return_inverse=True)
    width, least = _range_width(data), int(data.min())
    by_counting = runs * width <= max(len(data), _ROOM)
    counts = np.zeros(runs * width if by_counting else 0, np.int64)
    keys = []
    for start in range(0, len(batch), ROWS_PER_CHUNK):
        rows = slice(start, start + ROWS_PER_CHUNK)
        inside, key = places_of(view.seen, crossed, group[rows], batch.days_of(rows), width)
        if view.groups.count > 1:
            key += group[rows][inside].astype(np.int64) * (crossed.size * width)
        key += data[rows][inside]
        key -= least
        filled = column.filled_mask(rows)
        key = key if filled is None else key[filled[inside]]
        if by_counting:
            np.add.at(counts, key, 1)
        else:
            keys.append(key)
    if by_counting:
        every = np.flatnonzero(counts)
        counts = counts[every]
    else:
        every, counts = np.unique(np.concatenate(keys), return_counts=True)
    run, value = np.divmod(every, width)
    value += least
    return run, value if choices is None else choices[value], counts


def _range_width(data: NDArray[Any]) -> int:
    """Return how many whole numbers lie from the least to the largest of `data`, `(n,)`."""
    return int(data.max()) - int(data.min()) + 1


_FENCE = 1.5


_USUAL_BINS, _SUITED_BINS = 20, (5, 60)


def spread(facts: BookData, query: Spread) -> Result:
    """Return box figures of a column's values, one row per group and value of `per`."""
    column, per = query.column, query.per
    runs = ValueCounts.of(facts.view(query.by, query.only, query.as_of), column, per)
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
    columns = [
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
    answer = ViewLineage(query, runs.view, runs.group, {})
    return Result(columns, runs.view.meta("spread") | {"per": per, "column": column}, answer)


def histogram(facts: BookData, query: Histogram) -> Result:
    """Return how many values of a column lie in each of some equal ranges."""
    column, per = query.column, query.per
    runs = ValueCounts.of(facts.view(query.by, query.only, query.as_of), column, per)
    bins = query.bins or _suitable_bins(runs.values, np.diff(runs.before))
    edges = _round_edges(float(runs.values.min()), float(runs.values.max()), bins)
    if not np.isfinite(edges).all():
        raise QuestionError(f"the values of {column!r} lie too far apart for ranges of floats")
    count, rows = len(edges) - 1, len(runs.lo)
    edges_at = runs.places(np.tile(edges, (rows, 1)), "left")
    entries = np.diff(runs.before[edges_at], axis=1).ravel()
    place = np.repeat(np.arange(rows), count)
    bin_ = np.tile(np.arange(count), rows)
    total = runs.count[place]
    columns = [
        *(c.take(place) for c in runs.head()),
        Column.of("from", "float", edges[bin_], description=f"The range of {column} begins here"),
        Column.of("to", "float", edges[bin_ + 1], description="and ends below this"),
        Column.of("entries", "integer", entries, description="Values in the range"),
        Column.of("share", "float", entries / total, unit="share", description="Share of the row"),
    ]
    answer = ViewLineage(query, runs.view, runs.group, {}, place)
    return Result(columns, runs.view.meta("histogram") | {"per": per, "column": column}, answer)


def _suitable_bins(values: NDArray[np.float64], counts: Ints) -> int:
    """Return how many ranges suit some values, each so many times there: ranges twice as wide as
    the middle half over the cube root of their number, but no narrower than 1 for whole numbers.

    `values` and `counts` are `(n_values,)`.

    >>> _suitable_bins(np.arange(1000.0), np.ones(1000, np.int64))
    10
    """
    order = np.argsort(values, kind="stable")
    values, running = values[order], np.cumsum(counts[order])
    low, high = (values[np.searchsorted(running, share * running[-1])] for share in (0.25, 0.75))
    with np.errstate(over="ignore", invalid="ignore"):
        reach, width = values[-1] - values[0], 2 * (high - low) / float(running[-1]) ** (1 / 3)
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
