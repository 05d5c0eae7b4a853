"""`trail_values`: rolling windows along any numeric column instead of time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeAlias, get_args

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.calendars.days import Ints
from eptaro.core.measures.measure import Measure
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Edge
from eptaro.errors import QuestionError

Floats: TypeAlias = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class ValueRows:
    """Rows with a position each: their group's place among `groups`, and what they measure.

    `places` says where each is in the input, None where none was left out.
    """

    position: Floats
    groups: Groups
    group: Ints
    values: Mapping[str, Column]
    distinct: Mapping[str, Categorical]
    places: Ints | None = None

    def batch(self, order: Ints) -> Batch:
        """Return the rows in an order, each as a cell of its own."""
        return Batch(
            np.arange(len(order), dtype=np.int32),
            {},
            {name: column.take(order) for name, column in self.values.items()},
            {name: coded.at(order) for name, coded in self.distinct.items()},
        )


@dataclass(frozen=True)
class TrailValues:
    """What windows along a column were asked for; see `trail_values`."""

    along: str
    back: float
    ahead: float = 0.0
    far_edge: Edge = "open"

    def __post_init__(self) -> None:
        back, ahead = self.back, self.ahead
        if not (back > 0 and np.isfinite(back)) or not (ahead >= 0 and np.isfinite(ahead)):
            raise QuestionError(
                f"back={back} and ahead={ahead} must be numbers, and back greater than 0"
            )
        if self.far_edge not in get_args(Edge):
            raise QuestionError(f"far_edge={self.far_edge!r} is neither open nor closed")


def along_values(rows: ValueRows, measures: Sequence[Measure], query: TrailValues) -> Result:
    """Return the measures over the window of each row; see `eptaro.trail_values`."""
    for measure in measures:
        if measure.needs_days:
            raise QuestionError(f"{measure.formula} needs days; windows along a column have none")
    order = np.lexsort((rows.position, rows.group))
    order = order[~np.isnan(rows.position)[order]]
    x, group = rows.position[order], rows.group[order]
    fold = Fold([], {plane for measure in measures for plane in measure.planes})
    fold.add(rows.batch(order))
    _, cells = fold.result()
    lo = _places(group, x, x - query.back, after_equals=query.far_edge == "open")
    hi = _places(group, x, x + query.ahead, after_equals=True)
    rank = order if rows.places is None else rows.places[order]
    columns = [
        Column.of("row", "integer", rank + 1, unit="number", description="Place in the input"),
        *rows.groups.columns(group),
        Column.of(query.along, "float", x, description="Where the window ends"),
        Column.of("entries", "integer", hi - lo, description="Rows in the window"),
    ]
    for measure in measures:
        value = measure.over_cells(cells, lo, hi, {})
        columns.append(value.named(f"{measure.name}_trailing", f"{measure.formula} over it"))
    return Result(columns, {"verb": "trail_values", "along": query.along})


def _places(group: Ints, x: Floats, sought: Floats, *, after_equals: bool) -> Ints:
    """Return for each row the place in its group's run of the ordered `x` where `sought` goes.

    Values and questions are put in one order, and the values before each question counted;
    nothing is added or scaled, so no rounding can move an edge.
    """
    n = len(x)
    is_asked = np.repeat([not after_equals, after_equals], n).astype(np.int8)
    order = np.lexsort((is_asked, np.concatenate([x, sought]), np.concatenate([group, group])))
    values = order < n
    before = np.cumsum(values)
    places = np.empty(n, np.int64)
    places[order[~values] - n] = before[~values]
    return places
