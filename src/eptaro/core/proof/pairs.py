"""The days of a comparison set beside their counterparts, as the match rule pairs them."""

from __future__ import annotations

from typing import Any

import numpy as np

from eptaro.core.calendars.days import Ints, as_dates
from eptaro.core.calendars.span import Span
from eptaro.core.proof.plain import plain_value
from eptaro.core.proof.reader import Reader
from eptaro.core.questions.answer import Change, Pairing, value_of
from eptaro.core.questions.view import View
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.table import Table


def pairs_of(change: Change, pairing: Pairing, row: int, reader: Reader) -> Table | None:
    """Return one row per day of a change's current side, with its counterpart.

    Columns: `date`, `weekday`, `prior_date`, `prior_weekday`, and for a measure that adds
    up its value on either day. Under the match rule a day of the current side meets the day
    moved back as a date, as many days or workdays from the prior side's start, or whole weeks
    before; days with no counterpart, and prior days that none meets, stand alone. None
    where a side does not exist.
    """
    current = change.now.side.span(row)
    before = value_of(change.before).side.span(row)
    if current is None or before is None:
        return None
    view, measure = change.now.view, change.now.measure
    lo, hi = current.lo, current.hi
    now = np.arange(lo, hi + 1)
    prior = _counterparts(view, pairing, now, before)
    alone = np.setdiff1d(np.arange(before.lo, before.hi + 1), prior)
    now = np.concatenate([now, np.full(len(alone), -1)])
    has_now = np.arange(len(now)) <= hi - lo
    prior = np.concatenate([prior, alone])
    has_prior = (prior >= before.lo) & (prior <= before.hi)
    order = np.argsort(np.where(has_now, now - lo, prior - before.lo), kind="stable")
    now, prior, has_now, has_prior = now[order], prior[order], has_now[order], has_prior[order]
    columns = [
        dates("date", now, has_now, "Day of the current side"),
        _weekdays("weekday", now, has_now),
        dates("prior_date", prior, has_prior, "Its counterpart"),
        _weekdays("prior_weekday", prior, has_prior),
    ]
    if measure.additive_plane is not None:
        columns += [
            _values(change, reader, now, has_now, measure.name),
            _values(change, reader, prior, has_prior, f"{measure.name}_prior"),
        ]
    return Table(columns, {"verb": "pairs"})


def _counterparts(view: View, pairing: Pairing, now: Ints, before: Span) -> Ints:
    """Return the counterpart of each day; one outside the prior side is none."""
    start = int(now[0])
    if pairing.how == "workday":
        workdays = view.facts.workdays
        nth = workdays.number(now) - workdays.number(now[:1])
        paired = workdays.day_at(workdays.number(np.array([before.lo])) + nth)
        return np.where(workdays.is_workday(now), paired, before.lo - 1)
    if pairing.back is None:
        return now - start + before.lo
    moved, clamped = view.calendar.move_days(now, -pairing.back.n, pairing.back.unit)
    meets_again = np.append(False, moved[1:] == moved[:-1])
    return np.where(clamped & meets_again, before.lo - 1, moved)


def _weekdays(name: str, days: Ints, keep: Any) -> Column:
    words = [day.strftime("%A") for day in as_dates(np.where(keep, days, 0)).tolist()]
    return Column.text(
        name, np.array(words), np.where(keep, np.arange(len(days)), -1), description="Its weekday"
    )


def _values(change: Change, reader: Reader, days: Ints, keep: Any, name: str) -> Column:
    """Return the measure on each day, straight from the transactions."""
    view, measure = change.now.view, change.now.measure
    one = np.zeros(1, np.int64)
    like = view.value(measure, one, one + view.coverage.lo, one + view.coverage.lo)
    totals, there_is = [], list[bool]()
    for day, there in zip(days.tolist(), keep.tolist(), strict=True):
        hit = reader.on_days(Span.of(day, day)) if there else np.zeros(0, np.int64)
        value = plain_value(
            measure.terms,
            reader.rows(hit, measure.terms),
            formula=None if measure.arithmetic is None else measure.arithmetic.node,
        )
        there_is.append(there and value is not None)
        number = value or 0
        totals.append(float(number) if like.kind == "float" else int(number * 10**like.scale))
    return Column.of(
        name,
        like.kind,
        totals,
        np.array(there_is, bool),
        scale=like.scale,
        description=f"{measure.formula} on that day",
    )
