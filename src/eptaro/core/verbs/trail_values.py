"""`trail_values`: rolling windows along any numeric column instead of time."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core import hooks
from eptaro.core.calendars.days import Ints
from eptaro.core.folds.fold import Fold
from eptaro.core.measures.measure import Measure, parse_measures
from eptaro.core.questions.scope import By
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError

Floats: TypeAlias = NDArray[np.float64]


def trail_values(
    table: object,
    *,
    along: str,
    back: float,
    measures: str | Iterable[str | Measure],
    ahead: float = 0.0,
    far_edge: str = "open",
    by: By = None,
) -> Table:
    """Return for each row of a frame the measures over rows whose `along` lies near its own.

    The window of a row at x holds the rows of its group from x - back (left out, unless
    `far_edge="closed"`) to x + ahead, itself among them. Rows come in the order of group
    and `along`; rows with a blank there are left out. Columns: `row` (place in the input,
    from 1), the groups, `along`, `entries`, and `NAME_trailing`.

    Raises `QuestionError` for a window that cannot be.

    >>> found = trail_values({"km": [0, 1, 4], "t": [9, 7, 5]}, along="km", back=2,
    ...                      measures="t=sum(t)")
    >>> found["t_trailing"].tolist()
    [9, 16, 5]
    """
    if not (back > 0 and np.isfinite(back)) or not (ahead >= 0 and np.isfinite(ahead)):
        raise QuestionError(f"back={back} and ahead={ahead} must be widths; back is over 0")
    if far_edge not in ("open", "closed"):
        raise QuestionError(f"far_edge={far_edge!r} is neither open nor closed")
    parsed = parse_measures(measures)
    if any(measure.staged for measure in parsed):
        raise QuestionError("a measure per day has no place in windows along a column")
    names = [by] if isinstance(by, str) else list(by or ())
    planes = {plane for measure in parsed for plane in measure.planes}
    position, groups, place, batch = hooks.call("value_rows", table, along, names, planes)
    filled = ~np.isnan(position)
    order = np.lexsort((position, place))
    order = order[filled[order]]
    x, group = position[order], place[order]
    fold = Fold([], planes)
    fold.add(batch(order))
    _, cells = fold.result()
    lo = _places(group, x, x - back, after_equals=far_edge == "open")
    hi = _places(group, x, x + ahead, after_equals=True)
    columns = [
        Column.of("row", "integer", order + 1, unit="number", description="Place in the input"),
        *groups.columns(group),
        Column.of(along, "float", x, description="Where the window ends"),
        Column.of("entries", "integer", hi - lo, description="Rows in the window"),
    ]
    for measure in parsed:
        value = measure.over_cells(cells, lo, hi, {})
        columns.append(value.named(f"{measure.name}_trailing", f"{measure.formula} over it"))
    return Table(columns, {"verb": "trail_values", "along": along})


def _places(group: Ints, x: Floats, asked: Floats, *, after_equals: bool) -> Ints:
    """Return for each row the place in its group's run of the ordered `x` where `asked` goes.

    Values and questions are put in one order, and the values before each question counted;
    nothing is added or scaled, so no rounding can move an edge.
    """
    n = len(x)
    is_asked = np.repeat([not after_equals, after_equals], n).astype(np.int8)
    order = np.lexsort((is_asked, np.concatenate([x, asked]), np.concatenate([group, group])))
    values = order < n
    before = np.cumsum(values)
    places = np.empty(n, np.int64)
    places[order[~values] - n] = before[~values]
    return places
