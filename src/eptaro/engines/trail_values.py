"""`trail_values`: rolling windows along any numeric column of a frame instead of time."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from eptaro.core.aggregation.cells import Plane
from eptaro.core.aggregation.encoding import GroupEncoder
from eptaro.core.measures.measure import Measure, parse_measures
from eptaro.core.query.query import By
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Edge
from eptaro.core.verbs.trail import TrailValues, ValueRows, along_values
from eptaro.inputs.columns.codes import read_codes, read_groups
from eptaro.inputs.columns.values import RowOrigin, read_filled, read_numbers
from eptaro.inputs.columns.wrapped import clean_numbers
from eptaro.inputs.filtered import FilteredSource, filter_source
from eptaro.inputs.sources import ColumnRequest, FrameSource, Source
from eptaro.rules import DateRules, Numbers


def trail_values(
    table: object,
    *,
    along: str,
    back: float,
    measures: str | Iterable[str | Measure],
    ahead: float = 0.0,
    far_edge: Edge = "open",
    by: By = None,
    where: str | None = None,
    numbers: Numbers = None,
) -> Result:
    """Return for each row of a frame the measures over rows whose `along` lies near its own.

    The window of a row at x holds the rows of its group from x - back (left out, unless
    `far_edge="closed"`) to x + ahead, itself among them. Rows come in the order of group
    and `along`; rows with a blank there are left out. Columns: `row` (place in the input,
    from 1), the groups, `along`, `entries`, and `NAME_trailing`.

    Parameters
    ----------
    table : frame or mapping
        The rows.
    along : str
        The numeric column that windows run along.
    back : float
        How far windows reach back, over 0.
    measures : str, Measure, or several of these
        What to calculate.
    ahead : float
        How far windows reach on.
    far_edge : {"open", "closed"}
        Whether the row that lies exactly `back` away is left out.
    by : str or sequence of str, optional
        Group columns.
    where : str, optional
        A condition: only rows that meet it.
    numbers : {"strict", "infer"} or NumberRules
        How numbers in text are written.

    Returns
    -------
    Table
        `row`, the groups, `along`, `entries`, and `NAME_trailing` per measure.

    Raises
    ------
    QuestionError
        For a window that cannot be.
    ExpressionError
        For a condition that cannot be.

    Examples
    --------
    >>> windows = trail_values({"km": [0, 1, 4], "t": [9, 7, 5]}, along="km", back=2,
    ...                      measures="t=sum(t)")
    >>> windows["t_trailing"].tolist()
    [9, 16, 5]
    """
    query = TrailValues(along, back, ahead, far_edge)
    parsed = parse_measures(measures)
    names = [by] if isinstance(by, str) else list(by or ())
    planes = {plane for measure in parsed for plane in measure.planes}
    source = clean_numbers(table if isinstance(table, Source) else FrameSource(table), numbers)
    filtered = filter_source(source, where, None, DateRules())
    rows = _rows(filtered, along, names, planes)
    return along_values(rows, parsed, query)


def _rows(source: Source, along: str, by: list[str], planes: set[Plane]) -> ValueRows:
    """Return the position of each row of a frame, its group, and what is measured."""
    codes = sorted({p.column for p in planes if p.what == "codes"})
    filled = sorted({p.column for p in planes if p.what == "filled"})
    numbers = sorted({p.column for p in planes if p.what not in ("rows", "filled", "codes")})
    rows = next(
        iter(source.batches(ColumnRequest(along, by, [*numbers, along], [*filled, *codes])))
    )
    origin = RowOrigin(source)
    values = {name: read_filled(rows[name], name) for name in set(filled) - set(numbers)}
    values |= {name: read_numbers(rows[name], name, origin) for name in numbers}
    distinct = {name: read_codes(rows[name], name) for name in codes}
    combiner = GroupEncoder(by)
    number = combiner.number({name: read_groups(rows[name], name, source.name) for name in by})
    groups, rank = combiner.ranked_groups()
    place = np.zeros(rows.num_rows, np.int64) if number is None else rank[number]
    position = read_numbers(rows[along], along, origin).numbers()
    places = source.places if isinstance(source, FilteredSource) else None
    return ValueRows(position, groups, place, values, distinct, places)
