"""`compare`: each period, or period to date, against a prior one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.calendars.amount import parse_amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables.table import Table
from eptaro.core.verbs.compare.columns import Compared, changes
from eptaro.core.verbs.compare.counterparts import (
    ALIGNS,
    of_to_date,
    of_whole,
    of_windows,
    restated,
)
from eptaro.core.verbs.compare.effects import Effects
from eptaro.core.verbs.compare.sides import (
    Sides,
    each_day,
    trailing_windows,
    whole_periods,
    window_of,
)
from eptaro.core.verbs.compare.together import side_by_side
from eptaro.core.verbs.goals import Goals
from eptaro.errors import CalendarError, QuestionError, check_texts, unknown


def compare(
    self: Facts,
    per: str,
    *,
    back: str | Sequence[str] = "1 year",
    against: str | None = None,
    mean_of: int = 1,
    to_date: bool = False,
    match: str = "date",
    align: str = "place",
    periods: int = 1,
    every: str | None = None,
    trailing: str | None = None,
    details: bool = False,
    effects: str | None = None,
    goals: Goals | None = None,
    pace: str = "straight",
    sort: str | None = None,
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
) -> Table:
    """Set each period against the one `back` before.

    Columns: the groups, `period`, `first`, `last`, `prior_period`, `prior_first`,
    `prior_last`, `comparable`, `prior_clamped`, then for each measure `NAME`,
    `NAME_prior`, `NAME_change` and `NAME_change_ratio` (change / |prior|, blank where
    prior is 0 or blank). Changes are blank unless both sides lie wholly in the coverage,
    so a part-finished period is never set against a whole one.

    With `to_date` there is one row per group for the period that holds the as-of date,
    cut there, against the prior one cut at its counterpart; `periods=n` adds the n-1
    earlier periods, each cut at its own counterpart. `match` says which day is the
    counterpart: `date`, the same date moved back; `elapsed`, as many days from the
    prior period's start; `weekday`, moved back by whole weeks (4 per month, 13 per
    quarter, 26 per half, 52 per year); `workday`, the day with as many workdays elapsed.
    `every="day"` gives the period to date day by day (`day`, from 1, tells which), each
    against its own counterpart: two running totals, aligned and ready to draw.

    Instead of the period `back` before, `against="FY2019"` takes a fixed one: a label
    (of a wider level: the period of the same place in it) or a span of days.
    `mean_of=3` sets the mean of the three periods 1, 2 and 3 times `back` before on the
    prior side; `prior_spans` lists them. `trailing="12 months"` compares, for each period,
    the window that ends with it against the same window moved back.

    In years of whole weeks, `align="restated"` sets the year after a 53-week year against
    the days exactly 52 weeks before, so that the same calendar dates meet.

    Several `back` stand side by side, told apart by endings such as `_1_year`. `details`
    adds `standing` (groups that are `new` or `lost`), and for each measure
    `NAME_change_per_day` and `NAME_contribution`: the group's change over the prior value
    of all groups, which add up to the change ratio of the whole. `effects` ("days",
    "workdays" or "weekdays") splits changes of measures that add up into
    `NAME_effect_of_KIND`, by the number of days of each kind, and `NAME_rest`. `goals`
    (see `accumulate`) sets the first measure against what should have been reached.
    `sort` orders the rows by a column (`-revenue_change`: largest first).

    Raises `QuestionError` where `back` does not fit `per` (it lists what fits).

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2024-02-29", "2025-02-28"], "fare": [40, 50]},
    ...                   date="on", measures="revenue=sum(fare)",
    ...                   coverage="2024-01-01..2025-02-28")
    >>> row = next(book.compare("month", to_date=True).rows())
    >>> str(row["prior_last"]), row["revenue_change"], row["revenue_change_ratio"]
    ('2024-02-29', 10, 0.25)
    """
    given = {name: value for name, value in locals().items() if name not in ("self", "per", "back")}
    if not isinstance(back, str):
        tables = [compare(self, per, back=one, **given | {"sort": None}) for one in _backs(back)]
        together = side_by_side(tables, _backs(back), [measure.name for measure in self.measures])
        return together if sort is None else together.sorted(sort)
    check_texts(per=per, against=against, sort=sort, every=every)
    check_level(per, self.calendar.levels)
    _check_together(given)
    view = self.view(by, only, as_of)
    now, priors = _sides(view, per, back, given)
    answer = Compared(view, now, priors)
    columns = answer.head(with_day=every is not None)
    if details:
        columns.append(answer.standing())
    explained = None
    if effects is not None:
        explained = Effects(view, effects, answer.group, answer.now, answer.priors[0])
        columns += explained.day_columns(answer.exists)
    for measure in self.measures:
        value, prior = answer.values(measure)
        changed = changes(measure.name, value, prior, answer.comparable)
        columns += [value, *changed]
        if details:
            columns += answer.details(measure, value, prior)
        if explained is not None:
            columns += explained.columns(measure, changed[1])
        if goals is not None and measure is self.measures[0]:
            columns += answer.goals(goals, pace, per, value)
    asked = {name: given[name] for name in ("to_date", "match", "align", "trailing")}
    before = back if against is None else f"against {against}"
    table = view.table(columns, view.meta("compare") | {"per": per, "back": before} | asked)
    return table if sort is None else table.sorted(sort)


def _backs(back: Sequence[str]) -> list[str]:
    if not isinstance(back, Sequence) or not all(isinstance(one, str) for one in back):
        raise QuestionError(f"back={back!r} is not an amount of time; write it as '1 year'")
    backs = list(dict.fromkeys(back))
    if not backs:
        raise QuestionError("back names no prior period; write '1 year'")
    return backs


def _check_together(given: dict[str, Any]) -> None:
    """Raise `QuestionError` where options contradict each other."""
    if given["align"] not in ALIGNS:
        raise QuestionError(unknown("value for align", given["align"], ALIGNS))
    if not given["to_date"]:
        for name, plain in (("match", "date"), ("periods", 1), ("every", None)):
            if given[name] != plain:
                raise QuestionError(f"{name} belongs to to_date=True; whole periods need none")
    if given["trailing"] is not None:
        for name in ("to_date", "against", "goals"):
            if given[name]:
                raise QuestionError(f"trailing windows go with back, not with {name}")
    if given["mean_of"] < 1:
        raise QuestionError(f"mean_of={given['mean_of']} must be at least 1")
    if given["mean_of"] > 1:
        for name, plain in (("against", None), ("effects", None), ("align", "place")):
            if given[name] != plain:
                raise QuestionError(f"mean_of and {name} do not go together; leave one out")
    if given["against"] and given["align"] != "place":
        raise QuestionError("align='restated' goes with back='1 year', not with against")


def _sides(view: View, per: str, back: str, given: dict[str, Any]) -> tuple[Sides, list[Sides]]:
    """Return the current sides and the prior ones, one or as many as the mean is of."""
    calendar, against = view.calendar, given["against"]
    fixed = None if against is None else _fixed(view, per, against)
    amount = parse_amount(back, "back")
    level = fixed.level if isinstance(fixed, Period) else amount.level
    if fixed is None and given["trailing"] is None:
        _check_step(calendar, per, level, f"back={back!r}")
    if given["trailing"] is not None:
        windows = window_of(given["trailing"])
        now, find = trailing_windows(view, per, windows), of_windows(view, per, level, windows)
    elif given["to_date"]:
        if isinstance(fixed, Span):
            raise QuestionError(f"to_date needs a period to cut, and against={against!r} is none")
        now, find = _to_date(view, per, given), of_to_date(view, per, level, given["match"])
    else:
        now, find = whole_periods(view, per), of_whole(view, per, level)
    if isinstance(fixed, Span):
        return now, [_all_on(now, fixed)]
    if isinstance(fixed, Period):
        return now, [find(now, _steps_to(fixed, now, per))]
    priors = [find(now, amount.n * step) for step in range(1, given["mean_of"] + 1)]
    if given["align"] == "restated":
        priors = [restated(calendar, amount, given["match"], now, priors[0])]
    return now, priors


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
            f"{said} does not fit per={per!r}: a {per} has no place in a {level}; "
            f"back may be any number of {', '.join(fits)}"
        )


def _fixed(view: View, per: str, against: str) -> Period | Span:
    """Return what `against` names: a period as wide as `per` or wider, or a span of days."""
    if ".." in against:
        return Span.parse(against)
    try:
        period = view.calendar.period(against)
    except CalendarError as error:
        raise QuestionError(
            f"against={against!r} is no span (2024-07-01..2024-08-20), and {error}"
        ) from None
    _check_step(view.calendar, per, period.level, f"against={against!r}")
    return period


def _all_on(now: Sides, span: Span) -> Sides:
    """Return prior sides that are one span, whatever the current side is."""
    same = np.zeros(len(now), np.int64)
    no = np.zeros(len(now), bool)
    return Sides(np.full(len(now), str(span)), now.index, same + span.lo, same + span.hi, ~no, no)


def _to_date(view: View, per: str, given: dict[str, Any]) -> Sides:
    """Return the period that holds the as-of date, cut there, after so many earlier ones."""
    periods: int = given["periods"]
    if periods < 1:
        raise QuestionError(f"periods={periods} must be at least 1")
    if view.window:
        raise QuestionError("only=<days> does not go with to_date=True; say as_of instead")
    calendar, today = view.calendar, np.array([view.coverage.hi])
    cut = Sides.of(calendar, per, calendar.index_of(today, per), last=today)
    if periods > 1:
        steps = np.arange(periods)[::-1]
        find = of_to_date(view, per, per, given["match"])
        earlier = find(cut.at(np.zeros(periods, np.int64)), steps)
        cut = replace(earlier, last=np.where(steps == 0, today, earlier.last))
    return cut if given["every"] is None else each_day(view, per, cut, given["every"])
