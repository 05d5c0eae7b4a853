"""A book without rows, whose answers have the usual columns and no rows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.span import Span
from eptaro.core.query.book_options import BookOptions
from eptaro.core.query.coverage import WHOLE_PERIODS
from eptaro.core.query.view import BookData
from eptaro.core.results.column import Column

_NOTHING = Column.text("", np.array([], object))


def empty_facts(options: BookOptions, source: str) -> BookData:
    """Return the facts of no transactions; a blank one, which counts for nothing, gives answers
    their columns.
    """
    planes = options.kept_planes
    blank = Categorical(np.array([-1], np.int32), _NOTHING)
    values = {
        plane.column: Column.of(plane.column, "integer", np.zeros(1, np.int64), np.zeros(1, bool))
        for plane in planes
        if plane.column and plane.what != "codes"
    }
    coded = {plane.column: blank for plane in planes if plane.what == "codes"}
    groups = dict.fromkeys(options.by, blank)
    day = np.array([_day_within(options)], np.int32)
    fold = Fold(options.by, planes)
    fold.add(Batch(day, groups, values, coded))
    group_names, cells = fold.result()
    folded = Folded(group_names, cells, 0, (source,), distinct=fold.distinct_values())
    return replace(options.facts(folded), declared=options.coverage)


def _day_within(options: BookOptions) -> int:
    """Return a day that the coverage holds."""
    coverage_given = options.coverage
    if isinstance(coverage_given, str) and coverage_given not in (*WHOLE_PERIODS, "groups"):
        coverage_given = Span.parse(coverage_given)
    return coverage_given.lo if isinstance(coverage_given, Span) else 0
