"""`card`: period-to-date figures of several periods and windows as of one day."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, as_date
from eptaro.core.calendars.grain import are_whole
from eptaro.core.calendars.levels import LEVELS, Amount, check_level
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import Change, Side, TracedNumber, Value, ViewLineage
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, date_column, day_counts, with_texts, words_at
from eptaro.core.results.format import COMPLETE, FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.comparison.compare import change_columns
from eptaro.core.verbs.comparison.sides import Sides, of_to_date, of_windows, window_of
from eptaro.core.verbs.goals import GoalRows, finest_level, goals_of, goals_of_some
from eptaro.core.verbs.layouts.wide import levels_across
from eptaro.core.verbs.queries import Card, Goals, Pace
from eptaro.errors import QuestionError, show_option, spell_option
from eptaro.record import record


class _Row(NamedTuple):
    """One row of every group: a period to date, or a window, and its counterpart, if it has one."""

    calendar: Calendar
    level: str
    label: str
    first: int
    last: int
    is_window: bool
    prior: Sides | None


def card(facts: BookData, query: Card) -> Result:
    """Return figures as of one date: one row per group, calendar and level or window."""
    view = facts.view(query.by, query.only, query.as_of)
    if view.window:
        days, day = spell_option("only=<days>", "--only DAYS"), spell_option("as_of", "--as-of")
        raise QuestionError(f"{days} does not go with a card, which is of one day; use {day}")
    calendars = query.calendars or [facts.calendar]
    all_calendars = [calendars] if isinstance(calendars, Calendar) else calendars
    if not isinstance(all_calendars, Sequence) or not all(
        isinstance(calendar, Calendar) for calendar in all_calendars
    ):
        raise QuestionError(f"calendars={calendars!r} must be calendars: MonthCalendar(...)")
    rows = _of_calendars(view, all_calendars, query)
    if query.back is not None and rows and all(row.prior is None for row in rows):
        raise QuestionError(
            f"{show_option('back', query.back)} fits none of the levels of this card"
        )
    if not rows:
        grain = view.facts.folded.grain
        raise QuestionError(f"the data is dated by the {grain}, and no level is made of whole ones")
    count = view.groups.count
    group, place = np.repeat(np.arange(count), len(rows)), np.tile(np.arange(len(rows)), count)
    first, last = (np.array(days)[place] for days in zip(*(row[3:5] for row in rows), strict=True))
    complete = view.complete(first, last, group)
    columns = [*view.groups.columns(group), *_head_columns(rows, place, first, last, complete)]
    prior = None if query.back is None else _Prior.of(view, rows, place, group, complete)
    columns += [] if prior is None else prior.columns
    side, numbers = Side("days", first, last), dict[str, TracedNumber]()
    for measure in facts.measures:
        value = view.value(measure, group, first, last)
        name = f"{measure.name}_to_date"
        columns.append(value.named(name, face=DisplayHint("to date", of=measure.name)))
        numbers[name] = now = Value(view, measure, group, side)
        if prior is not None:
            before = view.value(measure, group, prior.first, prior.last).blanked(prior.exists)
            changed = change_columns(measure.name, value, before, prior.comparable)
            columns += changed
            numbers |= prior.numbers(now, changed)
        if (goals := goals_of(query.goals, measure, facts.measures)) is not None:
            columns += _goals_of_levels(
                view, measure, goals, query.pace, rows, (group, place), value
            )
    described = "; ".join(calendar.describe() for calendar in all_calendars)
    answer = ViewLineage(query, view, group, numbers)
    meta = view.meta("card") | {"calendar": described}
    meta |= {} if query.back is None else {"back": query.back, "match": query.match}
    result = Result(columns, meta, answer)
    return levels_across(result, query, len(rows)) if query.wide else result


def _of_calendars(view: View, calendars: Sequence[Calendar], query: Card) -> list[_Row]:
    """Return the rows of calendars one after the other; a window that is the same in two, once."""
    rows, windows = list[_Row](), set[tuple[str, int, int]]()
    for row in (row for calendar in calendars for row in _periods_to_date(view, calendar, query)):
        days = row.level, row.first, row.last
        if not row.is_window or days not in windows:
            rows.append(row)
        if row.is_window:
            windows.add(days)
    return rows


def _periods_to_date(view: View, calendar: Calendar, query: Card) -> Iterator[_Row]:
    """Yield the periods of a calendar to date, the shortest first, and then windows."""
    own = replace(view, facts=replace(view.facts, calendar=calendar))
    back = None if query.back is None else Amount.of_levels(query.back, "back")
    today = np.array([view.today])
    levels = [query.levels] if isinstance(query.levels, str) else query.levels
    for level in levels:
        check_level(level, LEVELS)
    for level in sorted(levels, key=LEVELS.index, reverse=True):
        if level not in calendar.levels:
            continue
        period = calendar.period_of(as_date(view.today), level)
        index = np.array([period.index])
        first = calendar.first_days(index, level)
        last = view.cut_to_coverage(first, today)
        if not _is_whole(view, int(first[0]), int(last[0])):
            continue  # as of weeks, where the data is dated by the month
        prior = None
        if back is not None and back.unit in calendar.steps(level):
            now = Sides.of(calendar, level, index, last=last)
            prior = of_to_date(own, level, back.unit, query.match)(now, back.n)
        yield _Row(calendar, level, period.label, int(first[0]), int(last[0]), False, prior)
    for words in (query.trailing,) if isinstance(query.trailing, str) else query.trailing:
        windows = window_of(words)
        last = np.minimum(today, view.coverage.hi)
        first, _ = windows.bounds(last, calendar, view.facts.workdays)
        prior = None
        if back is not None:
            now = Sides.of(calendar, "day", last, first, last)
            prior = of_windows(own, "day", back.unit, windows)(now, back.n)
        label = f"{words} to {as_date(int(last[0]))}"
        yield _Row(calendar, words, label, int(first[0]), int(last[0]), True, prior)


def _is_whole(view: View, first: int, last: int) -> bool:
    """Return whether a span, as far as it is covered, is made of whole periods of the data."""
    begin = max(first, view.coverage.lo)
    if begin > view.coverage.hi:
        return True  # nothing of it is known, and it is blank
    whole = are_whole(np.array([begin]), np.array([last]), view.facts.folded.grain)
    return bool(whole.all())


def _head_columns(
    rows: list[_Row], place: Ints, first: Ints, last: Ints, complete: Flags
) -> list[Column]:
    """Return the columns that label the rows.

    `place`, `first`, `last` and `complete` are `(n_shown,)`.
    """
    return [
        words_at(
            *("calendar", [row.calendar.name for row in rows], place, "Name of the calendar", _KEY)
        ),
        words_at(
            "level", [row.level for row in rows], place, "Level of the period, or window", _LEVEL
        ),
        _label_column("period", [row.label for row in rows], rows, place, "Period to date", PERIOD),
        date_column("first", first, None, "First day of the period", FIRST),
        date_column("last", last, None, "The as-of date, or the last covered day before it", LAST),
        day_counts(last - first + 1, "Days so far"),
        Column.of(
            "complete",
            "flag",
            complete,
            description="Whether all these days lie in the coverage",
            face=COMPLETE,
        ),
    ]


def _label_column(
    name: str, labels: Sequence[str], rows: list[_Row], place: Ints, text: str, face: DisplayHint
) -> Column:
    """Return the column of one label per row, shown as the calendars of the rows have it.

    `place` is `(n_shown,)`.
    """
    labels_shown = (
        row.calendar.shown_label(label) for row, label in zip(rows, labels, strict=True)
    )
    face = with_texts(face, zip(labels, labels_shown, strict=True))
    return words_at(name, labels, place, text, face)


_KEY = DisplayHint("calendar", Priority.KEY)
_LEVEL = DisplayHint("level", Priority.KEY)


@record
class _Prior:
    """The prior side of each row, and the columns that describe it."""

    first: Ints
    last: Ints
    exists: Flags
    comparable: Flags
    columns: list[Column]

    @classmethod
    def of(cls, view: View, rows: list[_Row], place: Ints, group: Ints, complete: Flags) -> _Prior:
        """Return the prior sides of rows; one without a counterpart has none.

        `place`, `group` and `complete` are `(n_shown,)`.
        """
        priors = [
            (0, 0, False, False) if row.prior is None else _sole_span(row.prior) for row in rows
        ]
        arrays = zip(*priors, strict=True)
        first, last, exists, clamped = (np.array(part)[place] for part in arrays)
        comparable = complete & exists & view.complete(first, last, group)
        labels = [_label(row) for row in rows]
        prior_label = _label_column(
            "prior_period", labels, rows, place, "Period before, to date", _PRIOR
        )
        columns = [
            prior_label.blanked(exists),
            date_column("prior_first", first, exists, "First day of the prior side", _PRIOR_DAYS),
            date_column("prior_last", last, exists, "Last day of the prior side", LAST),
            Column.of(
                "comparable",
                "flag",
                comparable,
                description="Whether both sides lie wholly in the coverage",
                face=DisplayHint("comparable", Priority.DETAIL),
            ),
            Column.of(
                "prior_clamped",
                "flag",
                clamped & exists,
                description="Whether the prior end was cut short by its month or period",
                face=DisplayHint("prior end cut short", Priority.DETAIL, rare=True),
            ),
        ]
        return cls(first, last, exists, comparable, columns)

    def numbers(self, now: Value, changed: Sequence[Column]) -> dict[str, TracedNumber]:
        """Return what is behind the prior value of a measure, and its changes, where it has any."""
        side = Side("prior side", self.first, self.last, self.exists)
        before = replace(now, side=side)
        changes: dict[str, TracedNumber] = {changed[0].name: before}
        for column, ratio in zip(changed[1:], (False, True), strict=False):
            changes[column.name] = Change(now, before, self.comparable, ratio, None)
        return changes


_PRIOR = DisplayHint("prior period", Priority.DETAIL)
_PRIOR_DAYS = DisplayHint("prior days", Priority.DAYS, ends="prior_last")


def _sole_span(side: Sides) -> tuple[int, int, bool, bool]:
    """Return the days of a single side, whether it exists, and whether its end was cut short."""
    return int(side.first[0]), int(side.last[0]), bool(side.exists[0]), bool(side.clamped[0])


def _label(row: _Row) -> str:
    """Return what the prior side of a row is called."""
    if row.prior is None:
        return ""
    if row.is_window:
        return f"{row.level} to {as_date(int(row.prior.last[0]))}"
    return str(row.prior.label[0])


def _goals_of_levels(
    view: View,
    measure: Measure,
    goals: Goals,
    pace: Pace,
    rows: list[_Row],
    words: tuple[Ints, Ints],
    reached: Column,
) -> list[Column]:
    """Return the goals of the levels that they are for, or make up; blank in other rows. `words` is
    the group and the place among `rows` of each, `(n_shown,)` both.
    """
    group, place = words
    least = finest_level(view, goals)
    parts = []
    for at, row in enumerate(rows):
        own = row.calendar.name == view.calendar.name
        if row.is_window or not own or LEVELS.index(row.level) > least:
            continue
        mine = np.flatnonzero(place == at)
        labels: NDArray[np.str_] = np.array([row.label])
        days = np.full(len(mine), row.last)
        one = GoalRows(row.level, labels, group[mine], np.zeros(len(mine), np.int64), days)
        parts.append((mine, one))
    if not parts:
        raise QuestionError("goals: no level of this card is made of the periods that they are for")
    return goals_of_some(view, measure, goals, pace, parts, reached)
