"""`PeriodGrid`: a calendar evaluated densely over a span."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from eptaro.core.errors import CalendarError
from eptaro.core.levels import check_level
from eptaro.core.period import Periods
from eptaro.core.span import Span


@dataclass(frozen=True, eq=False)
class PeriodGrid:
    """For each level an int32 array day → period, and the periods themselves.

    Any attribute of any date is then one gather: `values_per_period[grid.places("month")]`.
    """

    span: Span
    by_level: Mapping[str, Periods]
    _places: dict[str, NDArray[np.int32]] = field(default_factory=dict, repr=False)

    @property
    def days(self) -> NDArray[np.int32]:
        """The day ordinals of the span."""
        return np.arange(self.span.lo, self.span.hi + 1, dtype=np.int32)

    def periods(self, level: str) -> Periods:
        """Return the periods of a level that share a day with the span."""
        return self.by_level[check_level(level, tuple(self.by_level))]

    def places(self, level: str) -> NDArray[np.int32]:
        """Return for each day the place, from 0, of its period in `periods(level)`."""
        if level not in self._places:
            periods = self.periods(level)
            lengths = np.minimum(periods.last, self.span.hi) - np.maximum(
                periods.first, self.span.lo
            )
            self._places[level] = np.repeat(np.arange(len(periods), dtype=np.int32), lengths + 1)
        return self._places[level]

    def check(self) -> None:
        """Raise `CalendarError` unless every level covers the span without gap or overlap,
        the levels year to month nest, and labels sort in time order.
        """
        for level, periods in self.by_level.items():
            joined = (periods.first[1:] == periods.last[:-1] + 1).all()
            covers = periods.first[0] <= self.span.lo and periods.last[-1] >= self.span.hi
            if not (joined and covers and len(self.places(level)) == self.span.days):
                raise CalendarError(f"the {level}s of {self.span} leave a gap or overlap")
            if not (periods.labels[1:] > periods.labels[:-1]).all():
                raise CalendarError(f"the labels of the {level}s of {self.span} are out of order")
        nested = [level for level in self.by_level if level != "week"]
        for wide, narrow in pairwise(nested):
            inner, outer = self.periods(narrow), self.periods(wide)
            holder = outer.position_of(np.maximum(inner.first, self.span.lo))
            if not (inner.last <= outer.last[holder]).all():
                raise CalendarError(f"the {narrow}s of {self.span} do not nest in its {wide}s")
