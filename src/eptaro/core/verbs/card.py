"""`card`: where things stand as of one date, to date in every period that holds it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.grain import are_whole
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.questions.answer import Answered, Number, Side, Value
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables.answer import Question
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.face import COMPLETE, FIRST, LAST, PERIOD, Face, Rank
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError


@dataclass(frozen=True)
class Card(Question):
    """The to-date values of one date."""

    verb = "card"


def card(
    self: Facts,
    *,
    calendars: Calendar | Sequence[Calendar] | None = None,
    levels: Sequence[str] = ("week", "month", "quarter", "year"),
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
) -> Table:
    """Return the to-date values of one date: one row per group, calendar and level.

    Columns: the groups, `calendar`, `level`, `period`, `first`, `last` (the as-of date, or
    the last covered day where it is earlier), `days`, `complete`, then `NAME_to_date` for each
    measure. `calendars` are listed one after the other; without any it is the book's own.
    Levels that one does not offer are left out.

    Parameters
    ----------
    calendars : Calendar or sequence of these, optional
        By default the book's own.
    levels : sequence of str
        Levels, where the calendars offer them.
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.

    Returns
    -------
    Table
        One row per group, calendar and level.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-01", "2025-08-20"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> [(row["level"], row["revenue_to_date"]) for row in book.card().rows()]
    [('week', 5), ('month', 12), ('quarter', 12), ('year', 12)]
    """
    view = self.view(by, only, as_of)
    given = [calendars] if isinstance(calendars, Calendar) else list(calendars or [self.calendar])
    rows = []
    for calendar in given:
        for level in sorted(levels, key=LEVELS.index, reverse=True):
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
            face=Face("calendar", Rank.KEY),
        ),
        Column.text(
            "level",
            np.array(found),
            place,
            description="Level of the period",
            face=Face("level", Rank.KEY),
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
            face=Face("number of days", Rank.DETAIL),
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
    for measure in self.measures:
        value = view.value(measure, group, begin, last)
        columns.append(
            value.named(f"{measure.name}_to_date", face=Face("to date", of=measure.name))
        )
        numbers[f"{measure.name}_to_date"] = Value(view, measure, group, side)
    described = "; ".join(calendar.describe() for calendar in given)
    answer = Answered(Card(), view, group, numbers, np.arange(len(group)))
    return Table(columns, view.meta("card") | {"calendar": described}, answer)


def _is_whole(view: View, first: int, last: int) -> bool:
    """Return whether a span, as far as it is covered, is made of whole periods of the data."""
    begin = max(first, view.coverage.lo)
    if begin > view.coverage.hi:
        return True  # nothing of it is known, and it is blank
    whole = are_whole(np.array([begin]), np.array([last]), view.facts.folded.grain)
    return bool(whole.all())
