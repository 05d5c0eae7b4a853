"""`compare`: each period, or period to date, against a prior one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.amount import Amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.questions.answer import Answered, Number, Pairing
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts, View
from eptaro.core.tables.deferred import AnyColumn
from eptaro.core.tables.table import Table
from eptaro.core.verbs.compare.columns import Compared, changes
from eptaro.core.verbs.compare.counterparts import Match, of_to_date, of_whole, of_windows, restated
from eptaro.core.verbs.compare.effects import Effects
from eptaro.core.verbs.compare.options import Align, Compare, Kind
from eptaro.core.verbs.compare.sides import (
    Sides,
    all_on,
    each_day,
    trailing_windows,
    whole_periods,
    window_of,
)
from eptaro.core.verbs.compare.together import side_by_side
from eptaro.core.verbs.goals import Goals, Pace
from eptaro.errors import CalendarError, QuestionError


def compare(
    self: Facts,
    per: str,
    *,
    back: str | Sequence[str] = "1 year",
    against: str | None = None,
    mean_of: int = 1,
    to_date: bool = False,
    match: Match = "date",
    align: Align = "place",
    periods: int = 1,
    every: str | None = None,
    trailing: str | None = None,
    details: bool = False,
    effects: Kind | None = None,
    goals: Goals | None = None,
    pace: Pace = "straight",
    sort: str | None = None,
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
) -> Table:
    """Set each period against the one `back` before.

    Columns: the groups, `period`, `first`, `last`, `prior_period`, `prior_first`,
    `prior_last`, `comparable`, `prior_clamped`, then for each measure `NAME`,
    `NAME_prior`, `NAME_change` and `NAME_change_ratio` (the change over the size of the prior
    value, blank where that is 0 or blank). Changes are blank unless both sides lie wholly in
    the coverage, so a part-finished period is never set against a whole one.

    With `to_date` there is one row per group for the period that holds the as-of date, cut
    there, against the prior one cut at its counterpart: under `match` the same date moved
    back, as many days or workdays from the prior period's start, or whole weeks before (4
    per month, 13 per quarter, 26 per half, 52 per year). With `every="day"` it goes day by
    day (`day`, from 1, tells which): two running totals, aligned and ready to draw.

    `against` sets all against one period or span, and adds `NAME_growth_per_year`, the
    compound rate from its first day to the row's, where these lie a year or more apart.

    `prior_spans` lists the spans of a mean of several. Several `back` are told apart by
    endings such as `_1_year`. `details` adds `standing` (groups that are `new` or `lost`),
    and for each measure `NAME_change_per_day` and `NAME_contribution`: the group's change
    over the prior value of all groups, which add up to the change ratio of the whole.
    `effects` adds `NAME_effect_of_KIND` and `NAME_rest` for measures that add up.

    Parameters
    ----------
    per : str
        The level that is compared.
    back : str or sequence of str
        How far back the prior period lies; several stand side by side.
    against : str, optional
        A fixed period or span instead.
    mean_of : int
        Sets the mean of so many prior periods on the prior side.
    to_date : bool
        Cuts the period at the as-of date, the prior one at its counterpart.
    match : {"date", "elapsed", "weekday", "workday"}
        Which day is the counterpart.
    align : {"place", "restated"}
        Restated: after a 53-week year, the days 52 weeks before.
    periods : int
        With `to_date`: how many periods, each cut at its own counterpart.
    every : str, optional
        With `to_date`: one row per day, or finer period, on the way.
    trailing : str, optional
        Compares the windows that end with each period.
    details : bool
        Adds change per day, contribution, and who is new or lost.
    effects : {"days", "workdays", "weekdays"}, optional
        Splits changes by the number of days of each kind.
    goals : mapping, optional
        From a period's label, or (group value, label), to its goal.
    pace : {"straight", "prior year"}
        How goals are reached.
    sort : str, optional
        The column to order rows by; `-name`: largest first.
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.

    Returns
    -------
    Table
        One row per group and period.

    Raises
    ------
    QuestionError
        Where `back` does not fit `per`; it lists what fits.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2024-02-29", "2025-02-28"], "fare": [40, 50]},
    ...                   date="on", measures="revenue=sum(fare)",
    ...                   coverage="2024-01-01..2025-02-28")
    >>> row = next(book.compare("month", to_date=True).rows())
    >>> str(row["prior_last"]), row["revenue_change"], row["revenue_change_ratio"]
    ('2024-02-29', 10, 0.25)
    """
    backs = (back,) if isinstance(back, str) else _backs(back)
    asked = Compare(
        per,
        backs,
        against,
        mean_of,
        to_date,
        match,
        align,
        periods,
        every,
        trailing,
        details,
        effects,
        goals,
        pace,
        sort,
    )
    check_level(per, self.calendar.levels)
    asked.check()
    view = self.view(by, only, as_of)
    tables = [_against_one(view, replace(asked, back=(one,))) for one in backs]
    whole = tables[0] if isinstance(back, str) else side_by_side(tables, asked, self.measures)
    return whole if sort is None else whole.sorted(sort)


def _backs(back: Sequence[str]) -> tuple[str, ...]:
    if not isinstance(back, Sequence) or not all(isinstance(one, str) for one in back):
        raise QuestionError(f"back={back!r} is not an amount of time; write it as '1 year'")
    if not back:
        raise QuestionError("back names no prior period; write '1 year'")
    return tuple(dict.fromkeys(back))


def _against_one(view: View, asked: Compare) -> Table:
    """Return the comparison with one prior side, in the order of groups and time."""
    now, priors, pairing = _sides(view, asked)
    sides = Compared(view, now, priors)
    columns: list[AnyColumn] = [*sides.head(with_day=asked.every is not None)]
    if asked.details:
        columns.append(sides.standing())
    explained = None
    if asked.effects is not None:
        explained = Effects(view, asked.effects, sides.group, sides.now, sides.priors[0])
        columns += explained.day_columns(sides.exists)
    numbers: dict[str, Number] = {}
    for measure in view.facts.measures:
        value, prior = sides.values(measure)
        changed = changes(measure.name, value, prior, sides.comparable)
        columns += [value, *changed]
        behind = sides.numbers(measure, pairing)
        numbers |= {part.name: behind[part.name] for part in (value, *changed)}
        if len(changed) == 1:  # of texts and dates nothing is reckoned
            continue
        if asked.against is not None:
            columns.append(sides.growth(measure, value, prior))
        if asked.details:
            columns += sides.details(measure, value, prior)
        if explained is not None:
            columns += explained.columns(measure, changed[1])
        if asked.goals is not None and measure is view.facts.measures[0]:
            columns += sides.goals(asked.goals, asked.pace, asked.per, value)
    told = {name: getattr(asked, name) for name in ("to_date", "match", "align", "trailing")}
    meta = view.meta("compare") | {"per": asked.per, "back": asked.before} | told
    return Table(
        columns, meta, Answered(asked, view, sides.group, numbers, np.arange(len(sides.group)))
    )


def _sides(view: View, asked: Compare) -> tuple[Sides, list[Sides], Pairing | None]:
    """Return the current sides, the prior ones (one, or as many as the mean is of), and how
    their days meet, where they do day by day.
    """
    calendar, per, against = view.calendar, asked.per, asked.against
    fixed = None if against is None else _fixed(view, per, against)
    amount = Amount.of_levels(asked.back[0], "back")
    level = fixed.level if isinstance(fixed, Period) else amount.unit
    if fixed is None and asked.trailing is None:
        _check_step(calendar, per, level, f"back={asked.back[0]!r}")
    if asked.trailing is not None:
        windows = window_of(asked.trailing)
        now, find = trailing_windows(view, per, windows), of_windows(view, per, level, windows)
    elif asked.to_date:
        if isinstance(fixed, Span):
            raise QuestionError(f"to_date needs a period to cut, and against={against!r} is none")
        now, find = _to_date(view, asked), of_to_date(view, per, level, asked.match)
    else:
        now, find = whole_periods(view, per), of_whole(view, per, level)
    if isinstance(fixed, Span):
        return now, [all_on(now, fixed)], None
    if isinstance(fixed, Period):
        return now, [find(now, _steps_to(fixed, now, per))], _pairing(asked, None)
    priors = [find(now, amount.n * step) for step in range(1, asked.mean_of + 1)]
    if asked.align == "restated":
        priors = [restated(calendar, amount, asked.match, now, priors[0])]
    return now, priors, _pairing(asked, amount) if len(priors) == 1 else None


def _pairing(asked: Compare, amount: Amount | None) -> Pairing:
    """Return how days meet under the match rule; a fixed period has no amount to move by."""
    if asked.match == "workday":
        return Pairing("workday")
    if asked.match != "date" or amount is None or asked.align == "restated":
        return Pairing("days in")
    return Pairing("date", amount)


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
            f"against={against!r} is not a span (2024-07-01..2024-08-20), and {error}"
        ) from None
    _check_step(view.calendar, per, period.level, f"against={against!r}")
    return period


def _to_date(view: View, asked: Compare) -> Sides:
    """Return the period that holds the as-of date, cut there, after so many earlier ones."""
    periods, per = asked.periods, asked.per
    if periods < 1:
        raise QuestionError(f"periods={periods} must be at least 1")
    if view.window:
        raise QuestionError("only=<days> does not go with to_date=True; say as_of instead")
    calendar, today = view.calendar, np.array([view.today])
    index = calendar.index_of(today, per)
    today = view.cut(calendar.first_days(index, per), today)
    cut = Sides.of(calendar, per, index, last=today)
    if periods > 1:
        steps = np.arange(periods)[::-1]
        find = of_to_date(view, per, per, asked.match)
        earlier = find(cut.at(np.zeros(periods, np.int64)), steps)
        cut = replace(earlier, last=np.where(steps == 0, today, earlier.last))
    return cut if asked.every is None else each_day(view, per, cut, asked.every)
