"""Measures on the totals of a finer grain, such as the busiest day of each month.

The inner measure is calculated once for every unit (day, week, ...) of every group; a row
of the result then asks about a range of these units.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from eptaro.core.aggregation.axis import MOST_DENSE
from eptaro.core.aggregation.cells import ROWS, Cells
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import Grain, check_whole
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.measures.calculations import calculation
from eptaro.core.measures.term import DAYS, Arithmetic, Term
from eptaro.core.results.column import Column
from eptaro.errors import QuestionError
from eptaro.record import record


@record
class NestedAggregation:
    """What two-stage measures need of a view."""

    cells: Cells
    coverage: Span
    calendar: Calendar
    workdays: Workdays
    dated_by: Grain = "day"  # the periods of the data
    own: tuple[Ints, Ints] | None = None  # first and last day of each group's coverage
    balances: Callable[[Term, Ints, Ints, Ints], Column] | None = None  # of groups over days

    def units(self, grain: str) -> tuple[Ints, Ints]:
        """Return first and last day of every unit of a grain inside the coverage.

        Of wider grains only whole periods count. Raises `QuestionError` for units finer than
        the periods of the data.
        """
        if grain in DAYS:
            if self.dated_by != "day":
                raise QuestionError(
                    f"the data is dated by the {self.dated_by}, and what falls on each {grain} is "
                    f"not known; take totals per {self.dated_by}"
                )
            days = np.arange(self.coverage.lo, self.coverage.hi + 1)
            if grain == "workday":
                days = days[self.workdays.is_workday(days)]
            return days, days
        periods = self.calendar.periods(self.coverage, check_level(grain, self.calendar.levels))
        whole = (periods.first >= self.coverage.lo) & (periods.last <= self.coverage.hi)
        check_whole(periods.first[whole], periods.last[whole], self.dated_by)
        return periods.first[whole], periods.last[whole]

    def value(self, term: Term, group: Ints, first: Ints, last: Ints) -> Column:
        """Return the term over each row's span of days. All arrays are `(n_rows,)`."""
        begins, ends = self.units(term.grain)
        start, stop = np.searchsorted(begins, first), np.searchsorted(ends, last, side="right")
        return self._over_runs(term, begins, ends, group, start, np.maximum(stop, start))

    def over_bearers(self, term: Term, places: Ints, group: Ints, place: Ints) -> Column:
        """Return the term over the days of the coverage whose place is each row's.

        `places` is `(n_days,)`, `group` and `place` are `(n_rows,)`.

        `places` holds one place per day of the coverage; the grain must be days.
        """
        days, _ = self.units(term.grain)
        own = places[days - self.coverage.lo]
        order = np.argsort(own, kind="stable")
        start, stop = (np.searchsorted(own[order], place, side=side) for side in ("left", "right"))
        return self._over_runs(term, days[order], days[order], group, start, stop)

    def _over_runs(
        self, term: Term, begins: Ints, ends: Ints, group: Ints, start: Ints, stop: Ints
    ) -> Column:
        """Return the term over runs of units, from `start` to before `stop`, of a group each.

        `begins` and `ends` are `(n_units,)`; the others are `(n_rows,)`.
        """
        count, groups = len(begins), self.cells.axis.groups
        if count * groups > MOST_DENSE:
            raise QuestionError(
                f"{term}: {groups:,} groups over {count:,} units are too many; group by fewer "
                f"columns or narrow with only"
            )
        every = np.repeat(np.arange(groups), count)
        axis = self.cells.axis
        lo, hi = axis.bounds(every, np.tile(begins, groups), np.tile(ends, groups))
        spans = every, np.tile(begins, groups), np.tile(ends, groups)
        parts = [
            self.balances(part, *spans)
            if part.is_balance and self.balances is not None
            else calculation(part.how).over_cells(self.cells, part, lo, hi)
            for part in term.parts
        ]
        inner = term.inner.value(parts) if isinstance(term.inner, Arithmetic) else parts[0]
        keep = ~inner.blank
        if self.own is not None:
            opens, closes = (np.repeat(days, count) for days in self.own)
            keep &= (np.tile(begins, groups) >= opens) & (np.tile(ends, groups) <= closes)
        if inner.kind == "float":
            keep &= ~np.isnan(inner.numbers())
        if term.grain == "active day":
            keep &= self.cells.sums(ROWS, lo, hi).data > 0
        items = inner.take(np.flatnonzero(keep))
        counts = running_sums(keep.astype(np.int64))
        first, last = counts[group * count + start], counts[group * count + stop]
        return calculation(term.how).over_values(items, term, first, last)
