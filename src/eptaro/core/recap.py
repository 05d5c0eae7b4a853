"""`recap`: one row per period and group, empty periods included."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core import exact
from eptaro.core.attributes import ATTRIBUTES, attribute_of
from eptaro.core.byattribute import recap_by
from eptaro.core.column import Column, dates
from eptaro.core.days import Flags, Ints
from eptaro.core.display import shown
from eptaro.core.errors import EptaroError, QuestionError, check_texts, unknown
from eptaro.core.facts import AsOf, By, Facts, Only, View
from eptaro.core.groups import BLANK
from eptaro.core.levels import LEVELS, check_level
from eptaro.core.perentry import per_entry
from eptaro.core.shares import rank_column, running_share, share_columns
from eptaro.core.spans import Chunks, wider
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
    subtotals: str | Sequence[str] = (),
    top: int | None = None,
    shares: bool = False,
    ranks: bool = False,
    sort: str | None = None,
    every: str | None = None,
) -> Table:
    """Summarise each period of a level: one row per group and period, in time order.

    Columns: the groups, `period`, `first`, `last`, `days`, `complete`, then the
    measures. Every period that shares a day with the coverage has a row, also when
    nothing happened in it. `complete` is false where the row's days are not a whole
    period inside the coverage.

    `per` is a level, or chunks such as `5 months from 2024-03-20`, or an attribute that is
    no period (`weekday`, `month of year`, `hour`, `workday`, ...: see `rhythm`), whose rows
    come in natural order with the number of `days` that bear it.

    `subtotals` names wider levels, whose periods follow the last of their parts, told by
    a column `level`. `top` keeps that many groups of one column, by
    size, and adds up the others: `(others)` comes last and takes no rank. `shares` adds
    `NAME_share` (of all rows), `NAME_share_of_period` and `NAME_running_share` (of all rows,
    those shown so far), `ranks` adds `NAME_rank`, `sort` orders the rows by a column
    (`-revenue`: largest first).

    `only` narrows to a span (periods are then cut to it), a period label, `this year`,
    `last 3 months` (the whole ones before the as-of date's), or group values. `totals`
    adds a row `total` under each group. `wide` sets periods down and the groups of one
    column across, with totals on both edges. `every="entry"` gives one row per transaction
    with the measures of its period.

    Raises `QuestionError` for a group column or option that cannot be, `CalendarError`
    for a level that the calendar does not offer.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31", "2025-03-01"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.recap("month")["revenue"].tolist()
    [7, 0, 5]
    """
    check_texts(per=per, sort=sort, every=every)
    view = self.view(by, only, as_of)
    if top is not None:
        view = view.topped(top)
    if every is not None:
        return _per_entry(view, per, every)
    if per in ATTRIBUTES:
        if wide or totals or subtotals or shares or ranks:
            raise QuestionError(
                f"per={per!r} is no run of time; it goes with no wide, totals, subtotals, shares "
                f"or ranks"
            )
        table = recap_by(view, attribute_of(view, per))
        return table if sort is None else table.sorted(sort)
    levels = [subtotals] if isinstance(subtotals, str) else list(subtotals)
    rows = _Rows.of(view, per, levels, with_total=totals or wide)
    if wide:
        if levels or shares or ranks or sort:
            raise QuestionError("wide=True goes with no subtotals, shares, ranks or sort")
        return _across(view, rows)
    count = len(rows.labels)
    group = np.repeat(np.arange(view.groups.count), count)
    place = np.tile(np.arange(count), view.groups.count)
    rows = rows.repeated(place)
    parts = rows.level == rows.level_of_parts
    values = [view.value(m, group, rows.first, rows.last) for m in self.measures]
    meta = view.meta("recap") | {
        "per": per,
        "tie_out": tie_out(view, values, parts) | view.rows_in(),
    }
    beside = []
    for measure, value in zip(self.measures, values, strict=True):
        beside.append(value)
        if shares:
            beside += share_columns(measure, value, group, place, parts, rows.parents(count))
        if ranks:
            levels_of = np.unique(rows.level.astype(str), return_inverse=True)[1]
            ranked = group != view.others
            beside.append(rank_column(measure, value, group, place, levels_of, ranked))
    table = view.table([*view.groups.columns(group), *rows.head(), *beside], meta)
    order = np.arange(len(table)) if sort is None else table.order(sort)
    if shares:
        running = [running_share(m, table.column(m.name), parts, order) for m in self.measures]
        table = table.beside({f"{m.name}_share": r for m, r in zip(self.measures, running,
                                                                  strict=True) if r})  # fmt: skip
    return table if sort is None else table.take(order)


def _per_entry(view: View, per: str, every: str) -> Table:
    """Return for each transaction the measures of the period that holds it."""
    if every != "entry":
        raise QuestionError(f"every={every!r}: a recap is one row per period, or per 'entry'")
    labels, first, last, _ = _spans(view, per)
    lengths = np.minimum(last, view.seen.hi) - np.maximum(first, view.seen.lo) + 1
    place = np.repeat(np.arange(len(labels)), lengths)
    return per_entry(view, first[place], last[place], "", labels[place], "period", "recap")


@dataclass(frozen=True, eq=False)
class _Rows:
    """The spans that rows stand for, with their labels."""

    labels: NDArray[Any]
    first: Ints
    last: Ints
    complete: Flags
    level: NDArray[Any]
    level_of_parts: str

    @classmethod
    def of(cls, view: View, per: str, levels: list[str], *, with_total: bool) -> _Rows:
        made = [_spans(view, per)]
        names = [per]
        if levels:
            names += wider(levels, check_level(per, view.calendar.levels), view.calendar)
            made += [_spans(view, level) for level in names[1:]]
        labels, first, last, complete = (np.concatenate(part) for part in zip(*made, strict=True))
        level = np.repeat(names, [len(part[0]) for part in made]).astype(object)
        rank = np.repeat(np.arange(len(made)), [len(part[0]) for part in made])
        order = np.lexsort((rank, last))  # a wider period follows the last of its parts
        labels, first, last = labels[order].astype(object), first[order], last[order]
        complete, level = complete[order], level[order]
        if with_total:
            labels, level = np.append(labels, "total"), np.append(level, "total")
            first, last = np.append(first, first.min()), np.append(last, last.max())
            complete = np.append(complete, complete.all())
        return cls(labels, first, last, complete, level, per)

    def repeated(self, place: Ints) -> _Rows:
        return _Rows(
            self.labels[place], self.first[place], self.last[place], self.complete[place],
            self.level[place], self.level_of_parts,
        )  # fmt: skip

    def parents(self, count: int) -> Ints:
        """Return for each row the row of the next wider subtotal that holds it, or -1.

        Rows come in runs of `count` per group; a wider period follows its parts.
        """
        levels = [level for level in reversed(LEVELS) if level in set(self.level)]
        found = np.full(len(self.level), -1)
        run = np.arange(len(self.level)) // count
        for narrow, wide in pairwise(levels):
            inner, outer = (np.flatnonzero(self.level == level) for level in (narrow, wide))
            step = int(self.last.max()) + 1  # runs lie one after the other on one line
            ends = run[outer] * step + self.last[outer]
            at = np.searchsorted(ends, run[inner] * step + self.last[inner])
            found[inner] = outer[np.minimum(at, len(outer) - 1)]
        return found

    def head(self) -> list[Column]:
        return [
            Column.text("period", *_distinct(self.labels), description="The period's label"),
            *self._levels(),
            dates("first", self.first, description="First day the row stands for"),
            dates("last", self.last, description="Last day the row stands for"),
            Column.of("days", "integer", self.last - self.first + 1, unit="days",
                      description="Days from first to last"),
            Column.of("complete", "flag", self.complete,
                      description="Whether the row is a whole period inside the coverage"),
        ]  # fmt: skip

    def _levels(self) -> list[Column]:
        """Return the column that tells subtotals from parts, where there are any."""
        if set(self.level) <= {self.level_of_parts, "total"}:
            return []
        return [Column.text("level", *_distinct(self.level), description="Level of the period")]


def _spans(view: View, per: str) -> tuple[NDArray[Any], Ints, Ints, Flags]:
    """Return labels, first and last days, and which are whole, of the periods or chunks."""
    chunks = Chunks.parse(per, view.calendar)
    if chunks is not None:
        begins, ends, labels = chunks.over(view.seen)
    else:
        periods = view.calendar.periods(view.seen, check_level(per, view.calendar.levels))
        begins, ends, labels = periods.first, periods.last, periods.labels
    first, last = begins, ends
    if view.window:
        first, last = np.maximum(first, view.window.lo), np.minimum(last, view.window.hi)
    whole = (first == begins) & (last == ends) & view.complete(first, last)
    return labels.astype(object), first, last, whole


def _across(view: View, rows: _Rows) -> Table:
    """Return periods down and one column per group and measure across, the totals last."""
    if len(view.groups.names) != 1:
        raise QuestionError("wide=True sets one group column across; name exactly one in by")
    measures = view.facts.measures
    heads = view.groups.columns(np.arange(view.groups.count))[0].to_list()
    edge, head = view.together(), rows.head()
    meta = view.meta("recap") | edge.undecided()
    taken = {column.name for column in head} | {"total"}
    count = len(rows.labels)
    made: dict[str, Callable[[Table, int, str], Any]] = {}
    columns = [*head]
    titles = [_title(view.groups.names[0], word, taken, heads) for word in heads]
    for source, place, title in [*((view, i, t) for i, t in enumerate(titles)), (edge, 0, "total")]:
        groups = source.groups.columns(np.full(count, place))
        for measure in measures:
            column = source.value(measure, np.full(count, place), rows.first, rows.last)
            name = title if len(measures) == 1 else f"{title} {measure.name}"
            columns.append(column.named(name, f"{measure.name} of {title}: {measure.formula}"))
            long = source.table([*groups, *head, column], meta)
            made[name] = partial(_traced_across, long, measure.name)

    return Table(columns, meta | {"heads": [*made]}, _Across(made))


@dataclass(frozen=True, eq=False)
class _Across:
    """Traces the numbers of a cross-tab, each by what goes with its column."""

    made: dict[str, Callable[[Table, int, str], Any]]

    def __call__(self, shown: Table, row: int, name: str) -> Any:
        if name not in self.made:
            raise QuestionError(unknown("column of values", name, self.made))
        return self.made[name](shown, row, name)


def _title(column: str, word: Any, taken: set[str], heads: list[Any]) -> str:
    """Return what a group's column is called; one that is called like another names its group."""
    title = BLANK if word is None else str(word)
    doubled = word is not None and title == BLANK and None in heads
    return f"{column}={title}" if title in taken or doubled else title


def _traced_across(long: Table, measure: str, shown: Table, row: int, name: str) -> Any:
    """Trace a number of a cross-tab as that of the same row of one group's own table."""
    others = [column for column in long.columns if column.name != measure]
    return long.trace_as(Table([*others, shown.column(name).named(measure)]), row, measure)


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
        come = exact.total(column.data[keep])
        total = view.cells.total(plane, view.seen.lo, view.seen.hi)
        if come != total:
            raise EptaroError(f"the parts of {measure.name} add up to {come}, not {total}")
        added = Column.of("", column.kind, np.array([come], object), scale=column.scale)
        found[measure.name] = f"{int(keep.sum()):,} parts add up to {shown(added)[0]}"
    return found


def _distinct(labels: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Return the distinct labels and the code of each row."""
    choices, codes = np.unique(labels.astype(str), return_inverse=True)
    return choices, codes
