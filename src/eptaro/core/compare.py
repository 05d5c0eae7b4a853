"""`compare`: each period, or period to date, against a prior one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendar import Calendar
from eptaro.core.column import Column, dates
from eptaro.core.comparedetails import detail_columns, side_by_side, standing_column
from eptaro.core.days import Flags, Ints
from eptaro.core.errors import QuestionError, unknown
from eptaro.core.facts import AsOf, By, Facts, Only, View
from eptaro.core.levels import Amount, check_level, parse_amount
from eptaro.core.table import Table
from eptaro.core.weekcalendar import WeekCalendar
from eptaro.core.workdays import Workdays

MATCHES = ("date", "elapsed", "weekday", "workday")
ALIGNS = ("place", "restated")
_WEEKS = {"week": 1, "month": 4, "quarter": 13, "half": 26, "year": 52}


def compare(
    self: Facts,
    per: str,
    *,
    back: str | Sequence[str] = "1 year",
    to_date: bool = False,
    match: str = "date",
    align: str = "place",
    periods: int = 1,
    details: bool = False,
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

    In years of whole weeks, `align="restated"` sets the year after a 53-week year against
    the days exactly 52 weeks before, so that the same calendar dates meet.

    Several `back` stand side by side, told apart by endings such as `_1_year`. `details`
    adds `standing` (groups that are `new` or `lost`), and for each measure
    `NAME_change_per_day` and `NAME_contribution`: the group's change over the prior value
    of all groups, which add up to the change ratio of the whole.

    Raises `QuestionError` where `back` does not fit `per` (it lists what fits).

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2024-02-29", "2025-02-28"], "fare": [40, 50]},
    ...                   date="on", measures="revenue=sum(fare)",
    ...                   coverage="2024-01-01..2025-02-28")
    >>> row = next(book.compare("month", to_date=True).rows())
    >>> str(row["prior_last"]), row["revenue_change"], row["revenue_change_ratio"]
    ('2024-02-29', 10, 0.25)
    """
    if not isinstance(back, str):
        options = {"to_date": to_date, "match": match, "align": align, "periods": periods,
                   "details": details, "by": by, "only": only, "as_of": as_of}  # fmt: skip
        backs = list(dict.fromkeys(back))
        if not backs:
            raise QuestionError("back names no prior period; write '1 year'")
        tables = [compare(self, per, back=one, **options) for one in backs]  # type: ignore[arg-type]
        return side_by_side(tables, backs, [measure.name for measure in self.measures])
    calendar = self.calendar
    check_level(per, calendar.levels)
    amount = _check_back(calendar, per, back)
    if align not in ALIGNS:
        raise QuestionError(unknown("value for align", align, ALIGNS))
    view = self.view(by, only, as_of)
    if to_date:
        pairs = _to_date(view, per, amount, match, periods)
    else:
        if match != "date" or periods != 1:
            raise QuestionError("match and periods belong to to_date=True; whole periods need none")
        pairs = _whole(view, per, amount)
    if align == "restated":
        pairs = _restated(calendar, per, amount, match, pairs)
    count = len(pairs.first)
    group = np.repeat(np.arange(view.groups.count), count)
    place = np.tile(np.arange(count), view.groups.count)
    asked = {"back": str(amount), "to_date": to_date, "match": match, "align": align}
    return _answer(view, pairs.repeated(place), group, place if details else None, asked)


@dataclass(frozen=True, eq=False)
class _Pairs:
    """Current and prior spans, row by row; a prior side that does not exist is blank."""

    label: NDArray[Any]
    first: Ints
    last: Ints
    prior_label: NDArray[Any]
    prior_first: Ints
    prior_last: Ints
    exists: Flags
    clamped: Flags

    def repeated(self, place: Ints) -> _Pairs:
        return _Pairs(*(part[place] for part in vars(self).values()))


def _check_back(calendar: Calendar, per: str, back: str) -> Amount:
    amount = parse_amount(back, "back")
    fits = calendar.steps(per)
    if amount.level not in fits:
        raise QuestionError(
            f"back={back!r} does not fit per={per!r}: a {per} has no place in a {amount.level}; "
            f"back may be any number of {', '.join(fits)}"
        )
    return amount


def _whole(view: View, per: str, amount: Amount) -> _Pairs:
    calendar = view.calendar
    now = calendar.periods(view.seen, per)
    index, exists = calendar.counterparts(now.index, per, -amount.n, amount.level)
    index = np.where(exists, index, now.index)
    clamped = np.zeros(len(now), bool)
    if per == "day":
        _, clamped = calendar.move_days(now.index, -amount.n, amount.level)
    first, last = calendar.first_days(index, per), calendar.last_days(index, per)
    labels = calendar.labels(index, per)
    return _Pairs(now.labels, now.first, now.last, labels, first, last, exists, clamped)


def _to_date(view: View, per: str, amount: Amount, match: str, periods: int) -> _Pairs:
    if match not in MATCHES:
        raise QuestionError(unknown("value for match", match, MATCHES))
    if periods < 1:
        raise QuestionError(f"periods={periods} must be at least 1")
    if view.window:
        raise QuestionError("only=<days> does not go with to_date=True; say as_of instead")
    calendar, today = view.calendar, view.coverage.hi
    now = calendar.index_of(np.array([today]), per)
    steps = np.arange(periods)[::-1]
    made = []
    for back in steps:
        if back == 0:
            first = calendar.first_days(now, per)
            made.append(_Side(now, np.array([True]), first, np.array([today]), np.array([False])))
        else:
            made.append(_counterpart(view, per, now, today, Amount(int(back), per), match))
    rows = _stack(made)
    prior = _stack(
        [_counterpart(view, per, side.index, int(side.last[0]), amount, match) for side in made]
    )
    return _Pairs(
        calendar.labels(rows.index, per), rows.first, rows.last,
        calendar.labels(prior.index, per), prior.first, prior.last,
        rows.exists & prior.exists, prior.clamped,
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Side:
    """Periods cut at a day."""

    index: Ints
    exists: Flags
    first: Ints
    last: Ints
    clamped: Flags


def _stack(sides: list[_Side]) -> _Side:
    parts = zip(*(vars(side).values() for side in sides), strict=True)
    return _Side(*(np.concatenate(part) for part in parts))


def _counterpart(view: View, per: str, index: Ints, last: int, amount: Amount, match: str) -> _Side:
    """Return the period `amount` before the one at `index`, cut at the counterpart of `last`."""
    calendar = view.calendar
    prior, exists = calendar.counterparts(index, per, -amount.n, amount.level)
    prior = np.where(exists, prior, index)
    first, end = calendar.first_days(prior, per), calendar.last_days(prior, per)
    start, stop = calendar.first_days(index, per), np.array([last])
    clamped = np.zeros(len(index), bool)
    if not exists.all():
        return _Side(prior, exists, first, end, clamped)
    if match == "weekday":
        weeks = _weeks_back(per, amount)
        first, cut = start - 7 * weeks, stop - 7 * weeks
    elif match == "workday":
        cut, clamped = _as_many_workdays(view.facts.workdays, start, stop, first, end)
        exists = exists & (cut >= first)  # no day of the prior period has so few
        cut = np.maximum(cut, first)
    elif match == "elapsed" or per in ("week", "day"):
        # A week is cut at the same weekday, which is as many days from its start.
        cut = first + (stop - start)
        clamped, cut = cut > end, np.minimum(cut, end)
    else:
        first, cut, clamped = calendar.move_spans(start, stop, -amount.n, amount.level)
    return _Side(prior, exists, first, cut, clamped)


def _as_many_workdays(
    workdays: Workdays, start: Ints, stop: Ints, first: Ints, end: Ints
) -> tuple[Ints, Flags]:
    """Return the day of the prior period with as many workdays elapsed, and where it has not.

    Where the current day is no workday itself, it is the last such day.
    """
    elapsed = workdays.between(start, stop)
    opens = workdays.number(first)
    on_workday = workdays.is_workday(stop)
    reached = np.where(
        on_workday, workdays.day_at(opens + elapsed - 1), workdays.day_at(opens + elapsed) - 1
    )
    short = on_workday & (elapsed > workdays.between(first, end))
    return np.minimum(reached, end), short


def _restated(calendar: Calendar, per: str, amount: Amount, match: str, pairs: _Pairs) -> _Pairs:
    """Return the pairs with those after a 53-week year set 52 weeks back, day for day."""
    if not isinstance(calendar, WeekCalendar):
        raise QuestionError("align='restated' is for years of whole weeks (WeekCalendar)")
    if (amount.n, amount.level, match) != (1, "year", "date"):
        raise QuestionError("align='restated' goes with back='1 year' and match='date'")
    years = calendar.index_of(pairs.first, "year")
    after = calendar.weeks_in(years - 1) == 53
    return replace(
        pairs,
        prior_first=np.where(after, pairs.first - 364, pairs.prior_first),
        prior_last=np.where(after, pairs.last - 364, pairs.prior_last),
        exists=pairs.exists | after,
        clamped=pairs.clamped & ~after,
    )


def _weeks_back(per: str, amount: Amount) -> int:
    if amount.level not in _WEEKS:
        raise QuestionError(f"match='weekday' moves by whole weeks; back={amount} is none")
    return _WEEKS[amount.level] * amount.n


def _answer(
    view: View, pairs: _Pairs, group: Ints, place: Ints | None, asked: dict[str, Any]
) -> Table:
    """Return the table; `place`, each row's period, is given where details are wanted."""
    whole_now = view.complete(pairs.first, pairs.last)
    whole_prior = view.complete(pairs.prior_first, pairs.prior_last) & pairs.exists
    comparable = whole_now & whole_prior
    columns = [
        *view.groups.columns(group),
        _labels("period", pairs.label, None, "The period's label"),
        dates("first", pairs.first, description="First day of the current side"),
        dates("last", pairs.last, description="Last day of the current side"),
        _labels("prior_period", pairs.prior_label, pairs.exists, "Label of the period before"),
        dates("prior_first", pairs.prior_first, pairs.exists, "First day of the prior side"),
        dates("prior_last", pairs.prior_last, pairs.exists, "Last day of the prior side"),
        Column.of("comparable", "flag", comparable,
                  description="Whether both sides lie wholly in the coverage"),
        Column.of("prior_clamped", "flag", pairs.clamped & pairs.exists,
                  description="Whether the prior end was cut short by its month or period"),
    ]  # fmt: skip
    if place is not None:
        spans = (pairs.first, pairs.last), (pairs.prior_first, pairs.prior_last)
        columns.append(standing_column(view, group, *spans, comparable))
    for measure in view.facts.measures:
        now = view.value(measure, group, pairs.first, pairs.last)
        prior = view.value(measure, group, pairs.prior_first, pairs.prior_last)
        prior = prior.blanked(pairs.exists)
        columns += [now, *_changes(measure.name, now, prior, comparable)]
        if place is not None:
            days = pairs.last - pairs.first + 1
            before = pairs.prior_last - pairs.prior_first + 1
            columns += detail_columns(measure, now, prior, days, before, place, comparable)
    return view.table(columns, view.meta("compare") | asked)


def _labels(name: str, labels: NDArray[Any], keep: Flags | None, description: str) -> Column:
    choices, codes = np.unique(labels, return_inverse=True)
    codes = codes if keep is None else np.where(keep, codes, -1)
    return Column.text(name, choices, codes, description=description)


def _changes(name: str, now: Column, prior: Column, comparable: Flags) -> list[Column]:
    keep = comparable & ~now.blank & ~prior.blank
    change = Column.of(
        f"{name}_change", now.kind, now.data - prior.data, keep,
        scale=now.scale, format=now.format, description=f"{name} less {name}_prior",
    )  # fmt: skip
    base = np.abs(prior.numbers())
    divides = keep & (base > 0)
    ratio = np.divide(change.numbers(), base, out=np.zeros(len(base)), where=divides)
    return [
        prior.named(f"{name}_prior", f"{name} over the prior side"),
        change,
        Column.of(f"{name}_change_ratio", "float", ratio, divides, unit="ratio",
                  description=f"{name}_change / |{name}_prior|"),
    ]  # fmt: skip
