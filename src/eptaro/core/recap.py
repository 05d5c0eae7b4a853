"""`recap`: one row per period and group, empty periods included."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Column, dates
from eptaro.core.days import Flags, Ints
from eptaro.core.display import shown
from eptaro.core.errors import EptaroError, QuestionError
from eptaro.core.facts import AsOf, By, Facts, Only, View
from eptaro.core.levels import check_level
from eptaro.core.table import Table


def recap(
    self: Facts,
    per: str,
    *,
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
    wide: bool = False,
    totals: bool = False,
) -> Table:
    """Summarise each period of a level: one row per group and period, in time order.

    Columns: the groups, `period`, `first`, `last`, `days`, `complete`, then the
    measures. Every period that shares a day with the coverage has a row, also when
    nothing happened in it. `complete` is false where the row's days are not a whole
    period inside the coverage.

    `only` narrows to a span (periods are then cut to it), a period label or group
    values. `totals` adds a row `total` under each group. `wide` sets periods down
    and the groups of one column across, with totals on both edges.

    Raises `QuestionError` for a group column or option that cannot be, `CalendarError`
    for a level that the calendar does not offer.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31", "2025-03-01"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.recap("month")["revenue"].tolist()
    [7, 0, 5]
    """
    check_level(per, self.calendar.levels)
    view = self.view(by, only, as_of)
    rows = _Rows.of(view, per, with_total=totals or wide)
    if wide:
        return Table([*rows.head(), *_across(view, rows)], view.meta("recap"))
    count = len(rows.labels)
    group = np.repeat(np.arange(view.groups.count), count)
    rows = rows.repeated(np.tile(np.arange(count), view.groups.count))
    values = [view.value(m, group, rows.first, rows.last) for m in self.measures]
    meta = view.meta("recap") | {"tie_out": tie_out(view, values, rows.labels != "total")}
    return Table([*view.groups.columns(group), *rows.head(), *values], meta)


@dataclass(frozen=True, eq=False)
class _Rows:
    """The spans that rows stand for, with their labels."""

    labels: NDArray[Any]
    first: Ints
    last: Ints
    complete: Flags

    @classmethod
    def of(cls, view: View, per: str, *, with_total: bool) -> _Rows:
        periods = view.calendar.periods(view.seen, per)
        first, last, labels = periods.first, periods.last, periods.labels
        if view.window:
            first, last = np.maximum(first, view.window.lo), np.minimum(last, view.window.hi)
        whole = (first == periods.first) & (last == periods.last)
        complete = whole & view.complete(first, last)
        if with_total:
            labels = np.append(labels.astype(object), "total")
            first, last = np.append(first, first[0]), np.append(last, last[-1])
            complete = np.append(complete, complete.all())
        return cls(labels, first, last, complete)

    def repeated(self, place: Ints) -> _Rows:
        return _Rows(self.labels[place], self.first[place], self.last[place], self.complete[place])

    def head(self) -> list[Column]:
        return [
            Column.text("period", *_distinct(self.labels), description="The period's label"),
            dates("first", self.first, description="First day the row stands for"),
            dates("last", self.last, description="Last day the row stands for"),
            Column.of("days", "integer", self.last - self.first + 1, unit="days",
                      description="Days from first to last"),
            Column.of("complete", "flag", self.complete,
                      description="Whether the row is a whole period inside the coverage"),
        ]  # fmt: skip


def _across(view: View, rows: _Rows) -> list[Column]:
    """Return one column per group and measure, then the totals over all groups."""
    if len(view.groups.names) != 1:
        raise QuestionError("wide=True sets one group column across; name exactly one in by")
    measures = view.facts.measures
    heads = view.groups.columns(np.arange(view.groups.count))[0].to_list()
    edge = view.together()
    count = len(rows.labels)
    made = []
    for source, place, head in [(view, i, h) for i, h in enumerate(heads)] + [(edge, 0, "total")]:
        for measure in measures:
            column = source.value(measure, np.full(count, place), rows.first, rows.last)
            title = "(blank)" if head is None else str(head)
            name = title if len(measures) == 1 else f"{title} {measure.name}"
            made.append(column.named(name, f"{measure.name} of {title}: {measure.formula}"))
    return made


def tie_out(view: View, values: list[Column], parts: Flags) -> dict[str, str]:
    """Return for each additive measure the total that its parts were seen to add up to.

    The total is added up straight from the cells, not from the prefix sums that made the
    parts. Raises `EptaroError` on disagreement, which would be a fault of the library.
    """
    found = {}
    for measure, column in zip(view.facts.measures, values, strict=True):
        plane = measure.additive_plane
        if plane is None or column.kind == "float":
            continue
        keep = parts & ~column.blank
        added = Column.of("", column.kind, [column.data[keep].sum()], scale=column.scale)
        total = view.cells.total(plane, view.seen.lo, view.seen.hi)
        if int(added.data[0]) != total:
            raise EptaroError(f"the parts of {measure.name} add up to {added.data[0]}, not {total}")
        found[measure.name] = f"{int(keep.sum()):,} parts add up to {shown(added)[0]}"
    return found


def _distinct(labels: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Return the distinct labels and the code of each row."""
    choices, codes = np.unique(labels.astype(str), return_inverse=True)
    return choices, codes
