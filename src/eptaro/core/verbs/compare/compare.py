"""`compare`: each period, or period to date, against a prior one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import Amount, check_level
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import DayMatching, Number, ViewLineage
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column
from eptaro.core.results.deferred import AnyColumn
from eptaro.core.results.result import Result
from eptaro.core.verbs.compare.columns import Compared, changes
from eptaro.core.verbs.compare.effects import Effects
from eptaro.core.verbs.compare.sides import (
    Sides,
    all_on,
    each_day,
    of_to_date,
    of_whole,
    of_windows,
    restate,
    trailing_windows,
    whole_periods,
    window_of,
)
from eptaro.core.verbs.goals import GOAL_ENDINGS
from eptaro.core.verbs.queries import Compare
from eptaro.errors import CalendarError, QuestionError, plural


def side_by_side(tables: Sequence[Result], query: Compare, measures: Sequence[Measure]) -> Result:
    """Return comparisons of the same periods against several prior ones as one table.

    What belongs to one of them is determined by its ending, such as `_1_year`.
    """
    head = tables[0]
    stop = head.names.index("last") + 1
    goals = [measures[0].name + ending for ending in GOAL_ENDINGS]
    names = [measure.name for measure in measures]
    shared = [*head.names[:stop], *names, *(name for name in goals if name in head)]
    columns = [head.column(name) for name in shared]
    numbers: dict[str, Number] = {}
    for table, back in zip(tables, query.backs, strict=True):
        ending = "_" + back.strip().replace(" ", "_")
        columns += [_against(c, ending, back) for c in table.columns if c.name not in shared]
        assert isinstance(table.answer, ViewLineage)
        for name, number in table.answer.numbers.items():
            numbers[name if name in shared else name + ending] = number
    assert isinstance(head.answer, ViewLineage)
    answer = replace(head.answer, asked=query, numbers=numbers)
    return Result(columns, head.meta | {"back": query.before}, answer)


def _against(column: Column, ending: str, back: str) -> Column:
    """Return a column under the name and face that say what it is compared with."""
    face = column.face
    if face is not None and face.ends:
        face = replace(face, ends=face.ends + ending)
    return column.named(column.name + ending, face=face and face.against(back))


def compare(facts: BookData, query: Compare) -> Result:
    """Compare each period with the prior period, like for like; `back` is the distance."""
    backs = query.backs
    check_level(query.per, facts.calendar.levels)
    query.check()
    view = facts.view(query.by, query.only, query.as_of)
    tables = [_against_one(view, replace(query, back=one)) for one in backs]
    several = not isinstance(query.back, str)
    whole = side_by_side(tables, query, facts.measures) if several else tables[0]
    return whole if query.sort is None else whole.sorted(query.sort)


def _against_one(view: View, query: Compare) -> Result:
    """Return the comparison with one prior side, in the order of groups and time."""
    now, priors, pairing = _sides(view, query)
    sides = Compared(view, now, priors)
    columns: list[AnyColumn] = [*sides.head(with_day=query.every is not None)]
    if query.details:
        columns.append(sides.standing())
    explained = None
    if query.effects is not None:
        explained = Effects(view, query.effects, sides.group, sides.now, sides.priors[0])
        columns += explained.day_columns(sides.exists)
    numbers: dict[str, Number] = {}
    for measure in view.facts.measures:
        value, prior = sides.values(measure)
        changed = changes(measure.name, value, prior, sides.comparable)
        columns += [value, *changed]
        behind = sides.numbers(measure, pairing)
        numbers |= {part.name: behind[part.name] for part in (value, *changed)}
        if len(changed) == 1:  # of texts and dates nothing is calculated
            continue
        if query.against is not None:
            columns.append(sides.growth(measure, value, prior))
        if query.details:
            columns += sides.details(measure, value, prior)
        if explained is not None:
            columns += explained.columns(measure, changed[1])
        if query.goals is not None and measure is view.facts.measures[0]:
            columns += sides.goals(query.goals, query.pace, query.per, value)
    words = {name: getattr(query, name) for name in ("to_date", "match", "align", "trailing")}
    meta = view.meta("compare") | {"per": query.per, "back": query.before} | words
    return Result(
        columns, meta, ViewLineage(query, view, sides.group, numbers, np.arange(len(sides.group)))
    )


def _sides(view: View, query: Compare) -> tuple[Sides, list[Sides], DayMatching | None]:
    """Return the current sides, the prior ones (one, or as many as the mean is of), and how
    their days meet, where they do day by day.
    """
    calendar, per, against = view.calendar, query.per, query.against
    fixed = None if against is None else _fixed(view, per, against)
    amount = Amount.of_levels(query.backs[0], "back")
    level = fixed.level if isinstance(fixed, Period) else amount.unit
    if fixed is None and query.trailing is None:
        _check_step(calendar, per, level, f"back={query.backs[0]!r}")
    if query.trailing is not None:
        windows = window_of(query.trailing)
        now, find = trailing_windows(view, per, windows), of_windows(view, per, level, windows)
    elif query.to_date:
        if isinstance(fixed, Span):
            raise QuestionError(f"to_date needs a period to cut, and against={against!r} is none")
        now, find = _to_date(view, query), of_to_date(view, per, level, query.match)
    else:
        now, find = whole_periods(view, per), of_whole(view, per, level)
    if isinstance(fixed, Span):
        return now, [all_on(now, fixed)], None
    if isinstance(fixed, Period):
        return now, [find(now, _steps_to(fixed, now, per))], _pairing(query, None)
    priors = [find(now, amount.n * step) for step in range(1, query.mean_of + 1)]
    if query.align == "restated":
        priors = [restate(calendar, amount, query.match, now, priors[0])]
    return now, priors, _pairing(query, amount) if len(priors) == 1 else None


def _pairing(query: Compare, amount: Amount | None) -> DayMatching:
    """Return how days meet under the match rule; a fixed period has no amount to move by."""
    if query.match == "workday":
        return DayMatching("workday")
    if query.match != "date" or amount is None or query.align == "restated":
        return DayMatching("days in")
    return DayMatching("date", amount)


def _steps_to(fixed: Period, now: Sides, per: str) -> Ints:
    """Return how many steps back a fixed period lies; a week counts by its week-year."""
    calendar = fixed.calendar
    if fixed.level == "year" and per != "year":
        return calendar.numbers(now.index, per)[0] - fixed.year
    return calendar.index_of(now.first, fixed.level) - fixed.index


def _check_step(calendar: Calendar, per: str, level: str, said: str) -> None:
    fits = calendar.steps(per)
    if level not in fits:
        raise QuestionError(
            f"{said} does not fit per={per!r}: {plural(level)} are not whole {plural(per)}; "
            f"go back a number of {' or '.join(map(plural, fits))}"
        )


def _fixed(view: View, per: str, against: str) -> Period | Span:
    """Return what `against` names: a period as wide as `per` or wider, or a span of days."""
    if ".." in against:
        return Span.parse(against)
    try:
        period = view.calendar.period(against)
    except CalendarError as error:
        raise QuestionError(
            f"against={against!r} is not a span (2024-07-01..2024-08-20), and {error}"
        ) from None
    _check_step(view.calendar, per, period.level, f"against={against!r}")
    return period


def _to_date(view: View, query: Compare) -> Sides:
    """Return the period that holds the as-of date, cut there, after so many earlier ones."""
    periods, per = query.periods, query.per
    if periods < 1:
        raise QuestionError(f"periods={periods} must be at least 1")
    if view.window:
        raise QuestionError("only=<days> does not go with to_date=True; use as_of instead")
    calendar, today = view.calendar, np.array([view.today])
    index = calendar.index_of(today, per)
    today = view.cut(calendar.first_days(index, per), today)
    cut = Sides.of(calendar, per, index, last=today)
    if periods > 1:
        steps = np.arange(periods)[::-1]
        find = of_to_date(view, per, per, query.match)
        earlier = find(cut.at(np.zeros(periods, np.int64)), steps)
        cut = replace(earlier, last=np.where(steps == 0, today, earlier.last))
    return cut if query.every is None else each_day(view, per, cut, query.every)
