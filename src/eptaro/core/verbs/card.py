"""`card`: the figures as of one date, to date in every period that holds it."""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.grain import are_whole
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.query.lineage import Number, Side, Value, ViewLineage
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, dates
from eptaro.core.results.format import COMPLETE, FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Card
from eptaro.errors import QuestionError


def card(facts: BookData, query: Card) -> Result:
    """Return period-to-date figures as of one date: one row per group, calendar and level."""
    view = facts.view(query.by, query.only, query.as_of)
    calendars = query.calendars or [facts.calendar]
    given = [calendars] if isinstance(calendars, Calendar) else list(calendars)
    rows = []
    for calendar in given:
        for level in sorted(query.levels, key=LEVELS.index, reverse=True):
            if level in calendar.levels:
                period = calendar.period_of(as_date(view.today), level)
                begin = calendar.first_days(np.array([period.index]), level)
                first, until = int(begin[0]), int(view.cut(begin, np.array([view.today]))[0])
                if not _is_whole(view, first, until):
                    continue  # as of weeks, where the data is dated by the month
                rows.append((calendar.name, level, period.label, first, until))
    if not rows:
        grain = view.facts.folded.grain
        raise QuestionError(f"the data is dated by the {grain}, and no level is made of whole ones")
    names, found, labels, firsts, lasts = zip(*rows, strict=True)
    count = view.groups.count
    group, place = np.repeat(np.arange(count), len(rows)), np.tile(np.arange(len(rows)), count)
    begin, last = np.array(firsts)[place], np.array(lasts)[place]
    columns = [
        *view.groups.columns(group),
        Column.text(
            "calendar",
            np.array(names),
            place,
            description="Name of the calendar",
            face=DisplayHint("calendar", Priority.KEY),
        ),
        Column.text(
            "level",
            np.array(found),
            place,
            description="Level of the period",
            face=DisplayHint("level", Priority.KEY),
        ),
        Column.text("period", np.array(labels), place, description="Period to date", face=PERIOD),
        dates("first", begin, None, "First day of the period", FIRST),
        dates("last", last, None, "The as-of date, or the last covered day before it", LAST),
        Column.of(
            "days",
            "integer",
            last - begin + 1,
            unit="days",
            description="Days so far",
            face=DisplayHint("number of days", Priority.DETAIL),
        ),
        Column.of(
            "complete",
            "flag",
            view.complete(begin, last, group),
            description="Whether all these days lie in the coverage",
            face=COMPLETE,
        ),
    ]
    side, numbers = Side("days", begin, last), dict[str, Number]()
    for measure in facts.measures:
        value = view.value(measure, group, begin, last)
        columns.append(
            value.named(f"{measure.name}_to_date", face=DisplayHint("to date", of=measure.name))
        )
        numbers[f"{measure.name}_to_date"] = Value(view, measure, group, side)
    described = "; ".join(calendar.describe() for calendar in given)
    answer = ViewLineage(query, view, group, numbers, np.arange(len(group)))
    return Result(columns, view.meta("card") | {"calendar": described}, answer)


def _is_whole(view: View, first: int, last: int) -> bool:
    """Return whether a span, as far as it is covered, is made of whole periods of the data."""
    begin = max(first, view.coverage.lo)
    if begin > view.coverage.hi:
        return True  # nothing of it is known, and it is blank
    whole = are_whole(np.array([begin]), np.array([last]), view.facts.folded.grain)
    return bool(whole.all())
