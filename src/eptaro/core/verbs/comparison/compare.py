"""`compare`: each period, or period to date, against a prior one."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from functools import cached_property, reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import ROWS
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, as_dates, civil_date
from eptaro.core.calendars.levels import Amount, check_level
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.kernels import bigint
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import (
    Change,
    DayMatching,
    Mean,
    Side,
    TracedNumber,
    Value,
    ViewLineage,
)
from eptaro.core.query.totals import GroupTotals
from eptaro.core.query.view import BookData, View, top_groups
from eptaro.core.results.column import (
    NO_NUMBERS,
    AnyColumn,
    Column,
    LazyColumn,
    TiledArray,
    date_column,
    lazy_group,
    of_one_kind,
    on_one_scale,
    subtract_columns,
    with_shown_labels,
)
from eptaro.core.results.format import FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.comparison.sides import (
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
from eptaro.core.verbs.queries import Compare
from eptaro.errors import CalendarError, QuestionError, plural, show_option, spell_option

_YEAR = 365.2425  # days
_STANDINGS = ("new", "lost")


_MOST_PERIODS = 100_000  # to date, one after the other


def detail_columns(
    view: View,
    measure: Measure,
    now: Column,
    prior: Column,
    days: tuple[NDArray[Any], NDArray[Any]],
    place: Ints,
    keep: Flags,
) -> list[Column]:
    """Return a measure's change per day and, where it adds up, each group's contribution.

    `days` are two of `(n_rows,)`, `place` and `keep` `(n_rows,)`.

    The change per day sets spans of unlike length on equal terms. The contribution is the
    group's change over the prior value of all groups of the period: the contributions of
    a period add up to the change ratio of the whole. Both are blank unless comparable.
    """
    one, two = now.numbers(), prior.numbers()
    name = measure.name
    with np.errstate(over="ignore", invalid="ignore"):
        per_day = one / days[0] - two / np.maximum(days[1], 1)
    filled = keep & np.isfinite(per_day)
    columns = [
        Column.of(
            f"{name}_change_per_day",
            "float",
            np.where(filled, per_day, 0.0),
            filled,
            format=now.format,
            description=f"{name} per day less {name}_prior per day",
            face=DisplayHint("change per day", Priority.BESIDE, of=name),
        )
    ]
    if measure.additive_plane is None:
        return columns
    with np.errstate(over="ignore", invalid="ignore"):
        change = np.where(keep, np.nan_to_num(one - two), 0.0)
    groups, count = view.groups.count, int(place.max(initial=-1)) + 1
    sums = GroupTotals.of(groups, prior.blanked(keep), place, count)
    # The prior value of all groups, also of those that lie in other shards.
    whole = np.abs(view.global_value(f"{name}_contribution", sums).numbers())[place]
    valid = keep & (whole > 0) & np.isfinite(whole)
    with np.errstate(over="ignore"):
        ratio = np.divide(change, whole, out=np.zeros(len(change)), where=valid)
    valid &= np.isfinite(ratio)
    text = f"{name}_change over the prior value of all groups"
    columns.append(
        Column.of(
            f"{name}_contribution",
            "float",
            ratio,
            valid,
            unit="ratio",
            description=text,
            face=DisplayHint("contribution", Priority.BESIDE, of=name),
        )
    )
    return columns


@np.errstate(over="ignore", invalid="ignore")
def growth_column(
    measure: Measure, now: Column, prior: Column, sides: tuple[Ints, Ints], keep: Flags
) -> Column:
    """Return the rate at which a measure grew from the one side to the other, per year.

    `sides` are the first days, two of `(n_rows,)`, and `keep` is `(n_rows,) bool`.

    That is (now / prior) ** (1 / years) - 1, the compound rate. Years go from first day to first
    day: in whole months where these are one day of their months, else in days of 365.2425 a
    year, the mean of the Gregorian calendar. Blank unless comparable, where a value is not above 0
    and where the sides begin less than a year apart, of which a rate per year says little.
    """
    one, two = now.numbers(), prior.numbers()
    dates = [civil_date(np.where(keep, first, 0)) for first in sides]
    months = (dates[0][0] - dates[1][0]) * 12 + dates[0][1] - dates[1][1]
    years = np.where(dates[0][2] == dates[1][2], months / 12, (sides[0] - sides[1]) / _YEAR)
    valid = keep & (one > 0) & (two > 0) & (np.abs(years) >= 1)
    rate = np.divide(one, two, out=np.ones(len(one)), where=valid)
    rate = rate ** np.divide(1.0, years, out=np.zeros(len(one)), where=valid) - 1.0
    valid &= np.isfinite(rate)
    name = measure.name
    text = f"Rate at which {name} grew per year since {name}_prior"
    face = DisplayHint("growth per year", Priority.BESIDE, of=name)
    return Column.of(
        f"{name}_growth_per_year",
        "float",
        np.where(valid, rate, 0.0),
        valid,
        unit="ratio",
        description=text,
        face=face,
    )


def standing_column(
    view: View, group: Ints, now: Sides, priors: Sequence[Sides], keep: Flags
) -> Column:
    """Return which groups are new (transactions now, none before) or lost (the other way).

    `group` and `keep` are `(n_rows,)`.
    """

    def seen(side: Sides) -> Flags:
        lo, hi = view.cells.axis.bounds(group, side.first, side.last)
        has_rows: Flags = view.cells.sums(ROWS, lo, hi).data > 0
        return has_rows

    here = seen(now)
    before = np.logical_or.reduce([seen(prior) for prior in priors])
    # The places of `_STANDINGS`.
    codes = np.where(here & ~before, 0, np.where(before & ~here, 1, -1))
    return Column.text(
        "standing",
        np.array(_STANDINGS),
        np.where(keep, codes, -1),
        description="new: none before; lost: none now",
        face=DisplayHint("standing", Priority.BESIDE, rare=True),
    )


class ComparedSides:
    """Current and prior sides of every group, and their result.

    The rows are those of the sides, once for every group; several prior sides represent
    their mean.
    """

    def __init__(self, view: View, now: Sides, priors: Sequence[Sides]) -> None:
        count, groups = len(now), view.groups.count
        self._view, self._now, self._priors = view, now, priors
        self.place = np.tile(np.arange(count), groups)
        self.group = np.repeat(np.arange(groups), count)
        exists = now.exists
        comparable = view.complete_of_all(now.first, now.last)[:]
        for prior in priors:
            exists = exists & prior.exists
            comparable = comparable & view.complete_of_all(prior.first, prior.last)[:]
        self.exists: Flags = exists[self.place]
        self.comparable: Flags = comparable & self.exists

    @cached_property
    def now(self) -> Sides:
        """The current side of each row."""
        return self._now.at(self.place)

    @cached_property
    def priors(self) -> list[Sides]:
        """The prior sides of each row."""
        return [prior.at(self.place) for prior in self._priors]

    def head(self, *, with_day: bool) -> list[LazyColumn]:
        """Return the columns that label the sides."""
        names = [
            *self._view.groups.names,
            "period",
            *(["day"] if with_day else []),
            *("first", "last", "prior_period", "prior_first", "prior_last"),
            *("comparable", "prior_clamped"),
            *(["prior_spans"] if len(self._priors) > 1 else []),
        ]
        return lazy_group(names, len(self.group), lambda: self._head(with_day=with_day))

    def _head(self, *, with_day: bool) -> list[Column]:
        now, exists = self.now, self.exists
        # Several prior sides are labelled by the days from the earliest to the last.
        first = np.minimum.reduce([prior.first for prior in self.priors])
        last = np.maximum.reduce([prior.last for prior in self.priors])
        clamped = np.logical_or.reduce([prior.clamped for prior in self.priors])
        columns = [
            *self._view.groups.columns(self.group),
            self._texts("period", self._now.label, None, "The period's label", PERIOD),
            date_column("first", now.first, now.exists, "First day of the current side", FIRST),
            date_column("last", now.last, now.exists, "Last day of the current side", LAST),
            self._texts(
                "prior_period",
                _list_texts([prior.label for prior in self._priors]),
                exists,
                "Label of the period before",
                DisplayHint("prior period", Priority.DETAIL),
            ),
            date_column(
                "prior_first",
                first,
                exists,
                "First day of the prior side",
                DisplayHint("prior days", Priority.DAYS, ends="prior_last"),
            ),
            date_column("prior_last", last, exists, "Last day of the prior side", LAST),
            Column.of(
                "comparable",
                "flag",
                self.comparable,
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
        if with_day:
            day = now.last - now.first + 1
            at = len(self._view.groups.names) + 1
            columns.insert(
                at,
                Column.of(
                    "day",
                    "integer",
                    day,
                    unit="days",
                    description="Day of the period, from 1",
                    face=DisplayHint("day", Priority.KEY),
                ),
            )
        if len(self.priors) > 1:
            spans = _list_texts([_span_texts(prior) for prior in self._priors])
            columns.append(
                self._texts(
                    "prior_spans",
                    spans,
                    exists,
                    "The spans that the mean is of",
                    DisplayHint("mean of", Priority.DETAIL),
                )
            )
        return columns

    def _texts(
        self,
        name: str,
        texts: NDArray[Any],
        keep: Flags | None,
        description: str,
        face: DisplayHint,
    ) -> Column:
        """Return the column of texts that each side has, `(n_sides,) str`, for the rows of all
        groups; blank where `keep`, `(n_rows,) bool`, is false.
        """
        choices, codes = np.unique(texts, return_inverse=True)
        codes = codes[self.place]  # sides are the same for every group: written out once
        codes = codes if keep is None else np.where(keep, codes, -1)
        column = Column.text(name, choices, codes, description=description, face=face)
        return with_shown_labels(column, self._view.calendar)

    def values(self, measure: Measure) -> tuple[Column, Column]:
        """Return a measure's values now and before."""
        value = self._view.value_of_all
        now = value(measure, self._now.first, self._now.last)
        # A side that does not exist has days all the same, which only fill their place.
        now = now.blanked(self._now.exists[self.place])
        priors = [
            value(measure, prior.first, prior.last).blanked(self.exists) for prior in self._priors
        ]
        if len(priors) == 1:
            return now, priors[0]
        parts = of_one_kind(priors)
        with np.errstate(over="ignore", invalid="ignore"):
            if parts[0].kind == "float":
                mean = np.add.reduce([part.numbers() for part in parts]) / len(parts)
            else:  # added up exactly, so that values like their mean do not change
                units = reduce(bigint.add, [part.data for part in parts])
                mean = bigint.to_floats(units) / (len(parts) * 10.0 ** parts[0].scale)
        blank = np.logical_or.reduce([prior.blank for prior in priors])
        for at in np.flatnonzero(~np.isfinite(mean) & ~blank).tolist():  # beyond in between
            with suppress(OverflowError):
                mean[at] = float(sum(prior.fraction(at) for prior in priors) / len(priors))
        filled = np.isfinite(mean) & ~blank
        column = Column.of(
            measure.name, "float", np.where(filled, mean, 0.0), filled, format=now.format
        )
        return now, column

    def numbers(self, measure: Measure, pairing: DayMatching | None) -> dict[str, TracedNumber]:
        """Return what is behind a measure's value, prior value, change and change ratio."""
        name, exists, now = measure.name, self.exists, self._days_of(self._now)
        value = self._value(measure, Side("current side", *now, self._now.exists[self.place]))
        before: Value | Mean
        if len(self._priors) == 1:
            prior = self._days_of(self._priors[0])
            before = self._value(measure, Side("prior side", *prior, exists))
        else:  # the earliest first, as `prior_spans` lists them
            sides = [
                Side(f"prior side {number}", *self._days_of(prior), exists)
                for number, prior in enumerate(reversed(self._priors), 1)
            ]
            before = Mean(tuple(self._value(measure, side) for side in sides))
        return {
            name: value,
            f"{name}_prior": before,
            f"{name}_change": Change(value, before, self.comparable, False, pairing),
            f"{name}_change_ratio": Change(value, before, self.comparable, True, pairing),
        }

    def _days_of(self, sides: Sides) -> tuple[TiledArray, TiledArray]:
        """Return the first and the last day of a side in each row."""
        groups = self._view.groups.count
        return TiledArray.of_spans(sides.first, groups), TiledArray.of_spans(sides.last, groups)

    def _value(self, measure: Measure, side: Side) -> Value:
        return Value(self._view, measure, self.group, side)

    @cached_property
    def _days(self) -> tuple[NDArray[Any], NDArray[Any]]:
        """The days of the current sides, and the mean of those of the prior ones."""
        before = np.add.reduce([prior.last - prior.first + 1 for prior in self.priors])
        return self.now.last - self.now.first + 1, before / len(self.priors)

    def standing(self) -> Column:
        """Return which groups are new and which were lost."""
        return standing_column(self._view, self.group, self.now, self.priors, self.comparable)

    def details(self, measure: Measure, value: Column, prior: Column) -> list[Column]:
        """Return change per day and contribution."""
        words = (self._days, self.place, self.comparable)
        return detail_columns(self._view, measure, value, prior, *words)

    def growth(self, measure: Measure, value: Column, prior: Column) -> Column:
        """Return the growth per year since the fixed prior side."""
        sides = self.now.first, self.priors[0].first
        return growth_column(measure, value, prior, sides, self.comparable)

    def goals(self, measure: Measure, query: Compare, value: Column) -> list[Column]:
        """Return the goals of a measure that has some, the gap only for sides that are complete."""
        from eptaro.core.verbs.goals import GoalRows, goal_columns, goals_of

        goals = goals_of(query.goals, measure, self._view.facts.measures)
        if goals is None:
            return []
        labels, label_at = np.unique(self._now.label, return_inverse=True)
        label_at = label_at[self.place]
        whole = self._view.complete(self.now.first, self.now.last, self.group)
        rows = GoalRows(query.per, labels, self.group, label_at, self.now.last)
        return goal_columns(self._view, measure, goals, query.pace, rows, value.blanked(whole))


def _list_texts(texts: Sequence[NDArray[Any]]) -> NDArray[Any]:
    """Return texts row by row, the earliest first, separated by commas.

    Each array is `(n_rows,)`.
    """
    listed = texts[-1]
    for text in reversed(texts[:-1]):
        listed = np.strings.add(np.strings.add(listed, ", "), text)
    return listed


def _span_texts(sides: Sides) -> NDArray[np.str_]:
    """Return the spans in words."""
    first, last = (
        np.datetime_as_string(as_dates(days), unit="D") for days in (sides.first, sides.last)
    )
    return np.strings.add(np.strings.add(first, ".."), last)


def change_columns(name: str, now: Column, prior: Column, comparable: Flags) -> list[Column]:
    """Return the prior value, the change and the change ratio, blank unless comparable; of texts
    and dates the prior value alone.

    `comparable` is `(n_rows,) bool`.
    """
    before = prior.named(
        f"{name}_prior",
        f"{name} over the prior side",
        DisplayHint("prior", Priority.BESIDE, of=name),
    )
    if now.kind in NO_NUMBERS or prior.kind in NO_NUMBERS:
        return [before]
    keep = comparable & ~now.blank & ~prior.blank
    # Exact: decimals are subtracted as whole units, and only the ratio is a float.
    less = subtract_columns(now.blanked(keep), prior.blanked(keep))
    change = less.named(
        f"{name}_change", f"{name} less {name}_prior", DisplayHint("change", of=name, drawn=True)
    )
    # A change from -10 to -5 is a rise, also as a ratio.
    grown, base = on_one_scale(change, prior)
    base = np.abs(base)
    divides = keep & (base > 0)
    with np.errstate(over="ignore", invalid="ignore"):  # of those beyond the floats
        ratio = np.divide(grown, base, out=np.zeros(len(base)), where=divides)
    divides &= np.isfinite(ratio)
    return [
        before,
        change,
        Column.of(
            f"{name}_change_ratio",
            "float",
            ratio,
            divides,
            unit="ratio",
            description=f"{name}_change / |{name}_prior|",
            face=DisplayHint("% change", of=name),
        ),
    ]


def pairs_side_by_side(
    tables: Sequence[Result], query: Compare, measures: Sequence[Measure]
) -> Result:
    """Return comparisons of the same periods against several prior ones as one table.

    What belongs to one of them is determined by its ending, such as `_1_year`.
    """
    from eptaro.core.verbs.goals import GOAL_ENDINGS

    head = tables[0]
    stop = head.names.index("last") + 1
    goals = [measure.name + ending for measure in measures for ending in GOAL_ENDINGS]
    # Goals belong to the current side, which all comparisons share.
    names = [measure.name for measure in measures]
    shared = [*head.names[:stop], *names, *(name for name in goals if name in head)]
    columns = [head.column(name) for name in shared]
    numbers: dict[str, TracedNumber] = {}
    for table, back in zip(tables, query.backs, strict=True):
        ending = "_" + back.strip().replace(" ", "_")
        columns += [_named_against(c, ending, back) for c in table.columns if c.name not in shared]
        assert isinstance(table.answer, ViewLineage)
        for name, number in table.answer.numbers.items():
            numbers[name if name in shared else name + ending] = number
    assert isinstance(head.answer, ViewLineage)
    answer = replace(head.answer, asked=query, numbers=numbers)
    return Result(columns, head.meta | {"back": query.before}, answer)


def _named_against(column: Column, ending: str, back: str) -> Column:
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
    if query.top is not None:
        # The largest groups are those of all current sides together, so that every table has the
        # same.
        now = sides_of(view, replace(query, back=backs[0]))[0]
        view = top_groups(view, query.top, (), Span.of(int(now.first.min()), int(now.last.max())))
    tables = [_against_one(view, replace(query, back=step)) for step in backs]
    several = not isinstance(query.back, str)
    return pairs_side_by_side(tables, query, facts.measures) if several else tables[0]


def _against_one(view: View, query: Compare) -> Result:
    """Return the comparison with one prior side, in the order of groups and time."""
    return compare_sides(view, query, *sides_of(view, query))


def compare_sides(
    view: View, query: Compare, now: Sides, priors: list[Sides], pairing: DayMatching | None
) -> Result:
    """Return the comparison of given sides, in the order of groups and time."""
    sides = ComparedSides(view, now, priors)
    columns: list[AnyColumn] = [*sides.head(with_day=query.every is not None)]
    if query.details and query.groups is None:
        columns.append(sides.standing())
    explained = None
    if query.effects is not None:
        from eptaro.core.verbs.comparison.effects import Effects

        explained = Effects(view, query.effects, sides.group, sides.now, sides.priors[0])
        columns += explained.day_columns(sides.exists)
    numbers: dict[str, TracedNumber] = {}
    for measure in view.facts.measures:
        value, prior = sides.values(measure)
        changed = change_columns(measure.name, value, prior, sides.comparable)
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
        if query.goals is not None:
            columns += sides.goals(measure, query, value)
    words = {name: getattr(query, name) for name in ("to_date", "match", "align", "trailing")}
    meta = view.meta("compare") | {"per": query.per, "back": query.before} | words
    return Result(columns, meta, ViewLineage(query, view, sides.group, numbers))


def sides_of(view: View, query: Compare) -> tuple[Sides, list[Sides], DayMatching | None]:
    """Return the current sides, the prior ones (one, or as many as the mean is of), and how
    their days meet, where they do day by day.
    """
    calendar, per, against = view.calendar, query.per, query.against
    fixed = None if against is None else _fixed_span(view, per, against)
    amount = Amount.of_levels(query.backs[0], "back")
    level = fixed.level if isinstance(fixed, Period) else amount.unit
    if fixed is None and query.trailing is None:
        _check_step(calendar, per, level, ("back", query.backs[0]))
    if query.trailing is not None:
        windows = window_of(query.trailing)
        now, find = trailing_windows(view, per, windows), of_windows(view, per, level, windows)
    elif query.to_date:
        if isinstance(fixed, Span):
            raise QuestionError(
                f"to_date needs a period to cut, and {show_option('against', against)} is none"
            )
        now, find = _to_date(view, query), of_to_date(view, per, level, query.match)
    else:
        now, find = whole_periods(view, per), of_whole(view, per, level)
    if isinstance(fixed, Span):
        return now, [all_on(now, fixed)], None
    if isinstance(fixed, Period):
        return now, [find(now, _steps_to(fixed, now, per))], _pairing(query, None)
    # A mean is of the spans one, two, ... steps back, each found from the current side.
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


def _check_step(calendar: Calendar, per: str, level: str, step: tuple[str, str]) -> None:
    """Raise `QuestionError` where a step, an option and its value, is of no level that fits."""
    fits = calendar.steps(per)
    if level not in fits:
        raise QuestionError(
            f"{show_option(*step)} does not fit {show_option('per', per)}: {plural(level)} are not "
            f"whole {plural(per)}; go back a number of {' or '.join(map(plural, fits))}"
        )


def _fixed_span(view: View, per: str, against: str) -> Period | Span:
    """Return what `against` names: a period as wide as `per` or wider, or a span of days."""
    if ".." in against:
        return Span.parse(against)
    try:
        period = view.calendar.period(against)
    except CalendarError as error:
        raise QuestionError(
            f"{show_option('against', against)} is not a span (2024-07-01..2024-08-20), and {error}"
        ) from None
    _check_step(view.calendar, per, period.level, ("against", against))
    return period


def _to_date(view: View, query: Compare) -> Sides:
    """Return the period that holds the as-of date, cut there, after so many earlier ones."""
    periods, per = query.periods, query.per
    if not 1 <= periods <= _MOST_PERIODS:
        raise QuestionError(
            f"{show_option('periods', periods)} must be from 1 to {_MOST_PERIODS:,}"
        )
    if view.window:
        days, day = spell_option("only=<days>", "--only DAYS"), spell_option("as_of", "--as-of")
        raise QuestionError(
            f"{days} does not go with {show_option('to_date', True)}; use {day} instead"
        )
    calendar, today = view.calendar, np.array([view.today])
    index = calendar.index_of(today, per)
    # Both sides stop where the data does: days that nobody knows yet would be set against known
    # ones.
    today = view.cut_to_coverage(calendar.first_days(index, per), today)
    cut = Sides.of(calendar, per, index, last=today)
    if periods > 1:
        steps = np.arange(periods)[::-1]
        find = of_to_date(view, per, per, query.match)
        earlier = find(cut.at(np.zeros(periods, np.int64)), steps)
        cut = replace(earlier, last=np.where(steps == 0, today, earlier.last))
    return cut if query.every is None else each_day(view, per, cut, query.every)
