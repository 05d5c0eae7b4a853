"""`recap`: one row per period and group, empty periods included."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from eptaro.core.calendars.days import Flags
from eptaro.core.dimension.recurring import RECURRING
from eptaro.core.folds.folded import rows_note
from eptaro.core.questions.answer import Answered, Side, Value
from eptaro.core.questions.by_attribute import attribute_of, recap_by
from eptaro.core.questions.largest import largest
from eptaro.core.questions.per_entry import LABEL, per_entry
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables import exact
from eptaro.core.tables.answer import Question
from eptaro.core.tables.column import NO_NUMBERS, Column
from eptaro.core.tables.deferred import taken
from eptaro.core.tables.display import shown
from eptaro.core.tables.repeated import Repeated
from eptaro.core.tables.table import Table
from eptaro.core.verbs.recap.cross_tab import across
from eptaro.core.verbs.recap.periods import TOTAL, PeriodRows, spans_of
from eptaro.core.verbs.recap.ranks import rank_column
from eptaro.core.verbs.recap.shares import index_column, share_columns, with_running_shares
from eptaro.errors import EptaroError, QuestionError, check_texts


@dataclass(frozen=True)
class Recap(Question):
    """What a recap was asked; see `recap` for what each option means."""

    verb = "recap"
    per: str
    wide: bool = False
    totals: bool = False
    subtotals: tuple[str, ...] = ()
    top: int | None = None
    top_within: tuple[str, ...] = ()
    shares: bool = False
    ranks: bool = False
    sort: str | None = None
    every: Literal["entry"] | None = None
    index: str | None = None

    def __post_init__(self) -> None:
        check_texts(per=self.per, sort=self.sort, every=self.every, index=self.index)
        if self.top_within and self.top is None:
            raise QuestionError("top_within goes with top: how many groups are kept")
        if self.wide and (self.subtotals or self.ranks or self.sort or self.index):
            raise QuestionError("wide=True cannot be combined with subtotals, ranks, sort or index")

    def check_attribute(self) -> None:
        """Raise `QuestionError` for options that only go with periods of time."""
        others = (self.wide, self.totals, self.subtotals, self.shares, self.ranks, self.index)
        if any(others):
            raise QuestionError(
                f"per={self.per!r} is not a level of time; it cannot be combined with "
                f"wide, totals, subtotals, shares, ranks or index"
            )


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
    top_within: str | Sequence[str] = (),
    shares: bool = False,
    ranks: bool = False,
    index: str | None = None,
    sort: str | None = None,
    every: Literal["entry"] | None = None,
) -> Table:
    """Summarise each period of a level: one row per group and period, in time order.

    Columns: the groups, `period`, `first`, `last`, `days`, `complete`, then the
    measures. Every period that shares a day with the coverage has a row, also when
    nothing happened in it. `complete` is false where the row's days are not a whole
    period inside the coverage.

    `per` is a level, or chunks such as `5 months from 2024-03-20`, or an attribute that is
    no period (`weekday`, `month of year`, `hour`, `workday`, ...: see `rhythm`), whose rows
    come in natural order with the number of `days` that have it.

    `subtotals` names wider levels, whose periods follow the last of their parts, told by
    a column `level`. `top` keeps that many groups, by size of the first measure over all
    days, and adds up the others: `(others)` comes last and takes no rank; with `top_within`,
    so many within each value of these group columns. `shares` adds `NAME_share` (of all rows),
    `NAME_share_of_period` and `NAME_running_share` (of all rows, those shown so far), `ranks`
    adds `NAME_rank`, `index="2024-01"` adds `NAME_index`, the value in hundredths of that of
    the period named (blank unless both periods are complete), `sort` orders the rows by a
    column (`-revenue`: largest first).

    `only` narrows to a span (periods are then cut to it), a period label, `this year`,
    `last 3 months` (the whole ones before the as-of date's), or group values. `totals`
    adds a row `total` under each group. `wide` sets periods down and the groups of one
    column across, with totals on both edges, and with `shares` what each has of its period.
    `every="entry"` gives one row per transaction with the measures of its period.

    Parameters
    ----------
    per : str
        A level, chunks such as `5 months from 2024-03-20`, or a recurring attribute.
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.
    wide : bool
        Sets periods down and the groups of one column across.
    totals : bool
        Adds a row `total` under each group.
    subtotals : str or sequence of str
        Wider levels whose periods follow the last of their parts.
    top : int, optional
        Keeps so many groups, the others as `(others)`.
    top_within : str or sequence of str
        Group columns within each of whose values so many are kept.
    shares, ranks : bool
        Add each row's shares and rank.
    index : str, optional
        The label of the period whose value is 100.
    sort : str, optional
        The column to order rows by; `-name`: largest first.
    every : {"entry"}, optional
        One row per transaction, with the measures of its period.

    Returns
    -------
    Table
        One row per group and period, in time order.

    Raises
    ------
    QuestionError
        For a group column or option that cannot be.
    CalendarError
        For a level that the calendar does not offer.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31", "2025-03-01"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.recap("month")["revenue"].tolist()
    [7, 0, 5]
    """
    levels, within = (
        (names,) if isinstance(names, str) else tuple(names) for names in (subtotals, top_within)
    )
    asked = Recap(per, wide, totals, levels, top, within, shares, ranks, sort, every, index)
    view = self.view(by, only, as_of)
    if asked.top is not None:
        view = largest(view, asked.top, asked.top_within)
    if asked.every is not None:
        return _per_entry(view, asked)
    if asked.per in RECURRING:
        asked.check_attribute()
        table = recap_by(view, attribute_of(view, asked.per), asked)
        return table if sort is None else table.sorted(sort)
    rows = PeriodRows.of(view, asked.per, asked.subtotals, with_total=asked.totals or asked.wide)
    if asked.wide:
        return across(view, rows, asked, shares=asked.shares)
    return _long(view, rows, asked)


def _long(view: View, rows: PeriodRows, asked: Recap) -> Table:
    """Return one row per group and period, with shares and ranks where these are asked for."""
    count, groups, measures = len(rows), view.groups.count, view.facts.measures
    group, place = Repeated.of_groups(groups, count), Repeated.of_spans(np.arange(count), groups)
    first, last, parts = (Repeated.of_spans(p, groups) for p in (rows.first, rows.last, rows.parts))
    values = [view.value_of_all(m, rows.first, rows.last) for m in measures]
    beside = []
    for measure, value in zip(measures, values, strict=True):
        beside.append(value)
        if asked.shares:
            told = (np.asarray(group), np.asarray(place))
            beside += share_columns(view, measure, value, rows, *told)
        if asked.ranks:
            beside.append(rank_column(view, measure, value, rows))
        if asked.index is not None and value.kind not in NO_NUMBERS:
            beside.append(index_column(view, measure, value, rows, rows.labelled(asked.index)))
    side = Side("days", first, last)
    answer = Answered(
        asked,
        view,
        group,
        {m.name: Value(view, m, group, side) for m in measures},
        np.arange(len(group)),
        Repeated.of_spans(rows.of_level(TOTAL), groups),
    )
    tied = tie_out(view, values, np.asarray(parts)) | rows_note(view.facts.folded)
    meta = view.meta("recap") | {"per": asked.per, "tie_out": tied}
    head = [*view.groups.later(group), *taken(rows.head(), place), rows.complete_of_all(view)]
    table = Table([*head, *beside], meta, answer)
    order = np.arange(len(table)) if asked.sort is None else table.order(asked.sort)
    if asked.shares:
        table = with_running_shares(table, measures, np.asarray(parts), order)
    return table if asked.sort is None else table.take(order)


def _per_entry(view: View, asked: Recap) -> Table:
    """Return for each transaction the measures of the period that holds it."""
    if asked.every != "entry":
        raise QuestionError(f"every={asked.every!r}: a recap is one row per period, or per 'entry'")
    first, last, _, labelling = spans_of(view, asked.per)
    lengths = np.minimum(last, view.seen.hi) - np.maximum(first, view.seen.lo) + 1
    place = np.repeat(np.arange(len(first)), lengths)
    label = Column.text("period", labelling().astype(object)[place], description=LABEL)
    return per_entry(view, Side("days", first[place], last[place]), "", label, asked)


def _parts(count: int) -> str:
    return "1 part adds up to" if count == 1 else f"{count:,} parts add up to"


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
        found[measure.name] = f"{_parts(int(keep.sum()))} {shown(added)[0]}"
    return found
