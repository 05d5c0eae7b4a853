"""Recaps by an attribute that is no period: weekday, month of year, hour, workday."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eptaro.core.axis import Axis
from eptaro.core.cells import Cells
from eptaro.core.column import Column
from eptaro.core.days import Ints, civil, weekday
from eptaro.core.errors import QuestionError
from eptaro.core.evaluate import evaluate, ratio
from eptaro.core.facts import View
from eptaro.core.fold import Batch, Fold
from eptaro.core.groups import Coded
from eptaro.core.ledger import placed_rows
from eptaro.core.names import Names
from eptaro.core.table import Table

_HOUR = 3_600_000_000
ATTRIBUTES = (
    *("weekday", "month of year", "quarter of year", "day of month"),
    *("week of year", "hour", "workday", "holiday"),
)


@dataclass(frozen=True, eq=False)
class _Kind:
    """The values of an attribute in their natural order, and the place of each day's."""

    words: Sequence[str]
    places: Ints


def recap_by(view: View, attribute: str) -> Table:
    """Return one row per group and value of the attribute, in natural order.

    Columns: the groups, the attribute, `days` (how many days of the coverage bear the
    value, so that sums can be put on one footing), then the measures. Raises
    `QuestionError` for a measure of whole days.
    """
    if any(term.inner is not None for m in view.facts.measures for term in m.terms):
        raise QuestionError(f"a measure per day has no place in a recap by {attribute}")
    days = np.arange(view.seen.lo, view.seen.hi + 1)
    if attribute == "hour":
        kind = _Kind([f"{hour:02d}" for hour in range(24)], np.zeros(len(days), np.int64))
        cells, counts = _by_hour(view), np.full(24, len(days))
    else:
        kind = _kind(view, attribute, days)
        counts = np.bincount(kind.places, minlength=len(kind.words))
        cells = _by_day(view, kind)
    size, groups = len(kind.words), view.groups.count
    group, place = np.repeat(np.arange(groups), size), np.tile(np.arange(size), groups)
    shown = np.tile(counts > 0, groups)
    group, place = group[shown], place[shown]
    lo = cells.axis.place(group, place)
    name = attribute.replace(" ", "_")
    head = [
        *view.groups.columns(group),
        Column.text(name, np.array(kind.words), place, description=f"The {attribute}"),
        Column.of("days", "integer", counts[place], unit="days",
                  description="Days of the coverage that bear it"),
    ]  # fmt: skip
    values = []
    for measure in view.facts.measures:
        parts = [evaluate(cells, term, lo, lo + 1) for term in measure.terms]
        value = parts[0] if len(parts) == 1 else ratio(*parts)
        values.append(value.named(measure.name, f"{measure.formula} over these days"))
    return view.table([*head, *values], view.meta("recap") | {"per": attribute})


def _kind(view: View, attribute: str, days: Ints) -> _Kind:
    calendar, names = view.calendar, Names()
    if attribute == "weekday":
        start = list(names.weekdays).index(str(getattr(calendar, "week_starts", "monday")).title())
        words = [names.weekdays[(start + i) % 7] for i in range(7)]
        return _Kind(words, (weekday(days) - start) % 7)
    if attribute == "day of month":
        return _Kind([str(n) for n in range(1, 32)], civil(days)[2] - 1)
    work = view.facts.workdays
    if attribute == "workday":
        return _Kind(["workday", "other day"], 1 - work.is_workday(days).astype(np.int64))
    if attribute == "holiday":
        held = np.isin(days, work.holidays.days)
        return _Kind(["holiday", "other day"], 1 - held.astype(np.int64))
    level = attribute.split()[0]
    numbers = calendar.numbers(calendar.index_of(days, level), level)[1]
    count = {"month": 13, "quarter": 4, "week": 53}[level]
    if level == "month" and calendar.plain_months:
        return _Kind(names.months, numbers - 1)
    letter = {"month": "M", "quarter": "Q", "week": "W"}[level]
    return _Kind([f"{letter}{n:02d}" if count > 9 else f"{letter}{n}" for n in range(1, count + 1)],
                 numbers - 1)  # fmt: skip


def _by_day(view: View, kind: _Kind) -> Cells:
    """Return the cells of the days seen, gathered by the value that each day bears."""
    group, day = view.cells.axis.cells_of()
    inside = (day >= view.seen.lo) & (day <= view.seen.hi)
    place = kind.places[np.clip(day - view.seen.lo, 0, len(kind.places) - 1)]
    axis = Axis(view.groups.count, 0, len(kind.words))
    target = np.where(inside, group * axis.days + place, -1)
    tallies = {plane: t.spread(target, axis.size) for plane, t in view.cells.tallies.items()}
    return Cells(axis, tallies)


def _by_hour(view: View) -> Cells:
    """Return cells of group and hour, from the transactions themselves."""
    place, batch = placed_rows(view)
    if batch.times is None:
        raise QuestionError("the dates have no time of day; a recap by hour needs timestamps")
    seen = (place >= 0) & (batch.days >= view.seen.lo) & (batch.days <= view.seen.hi)
    kept = np.flatnonzero(seen)
    units = _HOUR if batch.times.max(initial=0) < 24 * _HOUR else 1000 * _HOUR
    hours = (batch.times[kept] // units).astype(np.int32)
    groups = {"place": Coded(place[kept].astype(np.int32), _numbered(view.groups.count))}
    single = Batch(
        hours, groups,
        {name: column.take(kept) for name, column in batch.values.items()},
        {name: coded.at(kept) for name, coded in batch.distinct.items()},
    )  # fmt: skip
    fold = Fold(["place"], {plane for m in view.facts.measures for plane in m.planes})
    fold.add(single)
    _, cells = fold.result()
    wide = Axis(view.groups.count, 0, 24)
    target = cells.axis.onto(wide)
    return Cells(wide, {p: t.spread(target, wide.size) for p, t in cells.tallies.items()})


def _numbered(count: int) -> Column:
    return Column.of("place", "integer", np.arange(count))
