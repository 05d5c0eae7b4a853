"""The queries: what each verb can be asked, one frozen dataclass of its options for each.

An option is declared here and used where the verb answers. `Daybook.recap` and its like take their
parameters and their documentation from these classes.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import KW_ONLY, replace
from typing import Any, Literal, Self, TypeAlias, get_args

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.levels import LEVELS, Amount
from eptaro.core.query.query import MeasuredQuery, Query, SortedQuery, TotalledQuery, as_names
from eptaro.errors import QuestionError, check_texts, show_option, spell_option, unknown
from eptaro.option import option
from eptaro.record import record

Align: TypeAlias = Literal["place", "restated"]
Edge: TypeAlias = Literal["open", "closed"]
Effect: TypeAlias = Literal["days", "workdays", "weekdays"]
Goals: TypeAlias = Mapping[Any, Any]
Keep: TypeAlias = Literal["keep", "blank"]
Match: TypeAlias = Literal["date", "elapsed", "weekday", "workday"]
Pace: TypeAlias = Literal["straight", "prior year"]
ALIGNS: tuple[Align, ...] = get_args(Align)
EFFECTS: tuple[Effect, ...] = get_args(Effect)
MATCHES: tuple[Match, ...] = get_args(Match)
PACES: tuple[Pace, ...] = get_args(Pace)

EACH_PERIOD = "period"  # in `top_within`: of each period its own largest groups

_MOST_PRIORS = 200  # prior periods that a mean is of
_MOST_BINS = 1000
_ADDED = ("shares", "ranks", "index")  # what `Recap` adds beside the values
_TO_DATE = ("match", "periods", "every")  # options of `Compare` that need `to_date`


@record(kw_only=True)
class GoalsQuery(MeasuredQuery):
    """What a verb is asked that sets measures against goals.

    Parameters
    ----------
    goals : mapping, optional
        Goals of the first measure, by period label or `(group value, label)`, or a mapping of
        measures to such goals; adds goal, goal to date, gap and what of it is reached.
    pace : {"straight", "prior year"}
        How goals are reached.
    """

    goals: Goals | None = option(
        None,
        metavar="FILE",
        rare=True,
        help="A CSV of goals: period, a column for each measure (or goal, for the first), and the "
        "group column, if any.",
    )
    pace: Pace = option(
        "straight",
        metavar="HOW",
        rare=True,
        shown=True,
        help="How a goal is spread over its period: straight, or as the 'prior year' was.",
    )

    def __post_init__(self) -> None:
        if self.pace not in PACES:
            raise QuestionError(unknown("value for pace", self.pace, PACES))
        if self.pace != "straight" and not self.goals:
            raise QuestionError(f"{show_option('pace', self.pace)} belongs to goals; give some")

    def without_group_goals(self) -> Self:
        """Return the query without goals of single groups, which may be elsewhere."""
        return self.with_goals_of(lambda group: False)

    def with_goals_of(self, is_wanted: Callable[[Any], bool]) -> Self:
        """Return the query with the goals of all groups alike, and those of wanted groups."""
        return self.with_goals(_goals_of(self.goals, is_wanted))

    def with_goals(self, goals: Goals | None) -> Self:
        """Return the query with other goals; without any, there is no pace to keep."""
        return replace(self, goals=goals, pace=self.pace if goals else "straight")


@record
class Recap(SortedQuery, GoalsQuery):
    """Summarise each period (grouped period summary): one row per group and period, in time order.

    Columns: the groups, `period`, `first`, `last`, `days`, `complete`, then the
    measures. Every period that shares a day with the coverage has a row, also when
    nothing happened in it. `complete` is false where the row's days are not a whole
    period inside the coverage.

    `per` is a level, or chunks such as `5 months from 2024-03-20`, or an attribute that is
    no period (`weekday`, `month of year`, `hour`, `workday`, ...: see `rhythm`), whose rows
    come in natural order with the number of `days` that have it.

    `subtotals` names wider levels, whose periods follow the last of their parts, named in
    a column `level`. `top` keeps that many groups, by size of the first measure over all
    days, and adds up the others: `(others)` comes last and takes no rank; with `top_within`,
    so many within each value of these group columns, or, with `period`, in each period, whose
    own largest groups come first. `shares` adds `NAME_share` (of all rows),
    `NAME_share_of_period` and `NAME_running_share` (of all rows, those shown so far), `ranks`
    adds `NAME_rank`, `index="2024-01"` adds `NAME_index`, the value in hundredths of that of
    the period named (blank unless both periods are complete), `sort` orders the rows by a
    column (`-revenue`: largest first).

    `only` narrows to a span (periods are then cut to it; several are set side by side, with the
    change between the last two), a period label, `this year`,
    `last 3 months` (the whole ones before the as-of date's), `last 3 complete months` (those that
    have ended by it), or group values. `totals`
    adds a row `total` under each group. `across="year"` sets the periods of a year down and years
    across, with the change from the last year but one to the last. `wide` sets periods down and the
    groups of one column across, with totals on both edges, and with `shares` what each has of its
    period.
    `every="entry"` gives one row per transaction with the measures of its period.

    Parameters
    ----------
    per : str
        A level, chunks such as `5 months from 2024-03-20`, or a recurring attribute.
    wide : bool
        Sets periods down and the groups of one column across.
    across : {"year"}, optional
        Sets months (quarters, halves, weeks) down and years across.
    beside : Calendar, optional
        Sets the periods of another calendar beside: a row for the days that lie in one period of
        each, which add up to the periods of either.
    totals : bool
        Adds a row `total` under each group.
    subtotals : str or sequence of str
        Wider levels whose periods follow the last of their parts.
    top : int, optional
        Keeps so many groups, the others as `(others)`.
    top_within : str or sequence of str
        Group columns within each of whose values so many are kept; `period`: in each period.
    shares, ranks : bool
        Add each row's shares and rank.
    index : str, optional
        The label of the period whose value is 100.
    every : {"entry"}, optional
        One row per transaction, with the measures of its period.

    Returns
    -------
    Table
        One row per group and period, in time order.

    Raises
    ------
    QuestionError
        For a group column or option that cannot be.
    CalendarError
        For a level that the calendar does not offer.

    See Also
    --------
    accumulate : Totals to date within each period, day by day.
    compare : Each period against the one before.
    rhythm : Values by weekday, hour or day type, over all periods.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31", "2025-03-01"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.recap("month")["revenue"].tolist()
    [7, 0, 5]
    """

    verb = "recap"
    per: str = option(
        metavar="LEVEL",
        help="One row per year, half, quarter, month, week, day; per weekday, month of year, hour, "
        "workday, ...; or per chunk: '5 months from 2024-03-20'.",
    )
    _: KW_ONLY
    wide: bool = option(False, help="Set periods down and one group column across.")
    across: Literal["year"] | None = option(
        None, metavar="year", help="Set months (quarters, weeks) down and years across."
    )
    beside: Calendar | str | None = option(
        None,
        metavar="CALENDAR",
        rare=True,
        help="Cross the periods with those of another calendar: a row for the days in one of each.",
    )
    totals: bool = option(False, help="Add a total under each group.")
    subtotals: str | Sequence[str] = option(
        (),
        metavar="LEVEL",
        help="Add the periods of a wider level below their parts. May be given again.",
    )
    top: int | None = option(
        None, metavar="N", help="Keep the N largest groups; the others are added up in one row."
    )
    top_within: str | Sequence[str] = option(
        (),
        metavar="COLUMN",
        rare=True,
        help="With --top: the N largest within each value of this group column, or of each "
        "period. May be given again.",
    )
    shares: bool = option(False, help="Add each row's share of all and of its period.")
    ranks: bool = option(False, help="Add ranks, 1 for the largest.")
    index: str | None = option(
        None,
        metavar="PERIOD",
        rare=True,
        help="Add each value as a percentage of the value in PERIOD.",
    )
    every: Literal["entry"] | None = option(
        None, metavar="entry", help="One row per transaction instead."
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        check_texts(per=self.per, every=self.every, index=self.index)
        _check_sort_names(self.sort)
        if self.top_within and self.top is None:
            raise QuestionError("top_within goes with top: how many groups are kept")
        if self.across not in (None, "year"):
            reading = spell_option("Daybook.read(..., across=...)", "--columns-across")
            cure = f"; columns become rows by {reading}" if " as " in str(self.across) else ""
            raise QuestionError(unknown("value for across", self.across, ("year",)) + cure)
        beside_each = ("wide", "totals", "subtotals", *_ADDED)
        if self.across is not None:
            of_years = show_option("across", "year")
            others = ("wide", "subtotals", *_ADDED, "sort", "every", "goals")
            _refuse(self, others, f"{of_years} cannot be combined with")
            if EACH_PERIOD in self.within_groups:
                each = show_option("top_within", EACH_PERIOD)
                raise QuestionError(f"{of_years} cannot be combined with {each}")
        if isinstance(self.beside, Calendar):
            own = f"{show_option('beside', self.beside.name)} does not go with"
            _refuse(self, (*beside_each, "across", "every", "goals"), own)
        elif self.beside is not None:
            raise QuestionError(
                f"{show_option('beside', self.beside)} is no calendar; give one, or its name to "
                "--beside with a --config that defines it"
            )
        if self.goals:
            words = "goals are of periods and of groups by name, which does not go with"
            _refuse(self, ("wide", "every", "top"), words)
        if self.every is not None:
            per_row = f"{show_option('every', self.every)} has a row per transaction"
            _refuse(self, beside_each, f"{per_row}, which does not go with")
        if self.wide:
            wide = f"{show_option('wide', True)} cannot be combined with"
            _refuse(self, ("subtotals", "ranks", "sort", "index"), wide)

    @property
    def recurs(self) -> bool:
        """Whether `per` is an attribute of days that comes again, such as weekday."""
        if self.per in LEVELS:
            return False
        from eptaro.core.dimension.recurring import RECURRING

        return self.per in RECURRING

    def check_attribute(self) -> None:
        """Raise `QuestionError` for options that only go with periods of time."""
        if self.goals:
            raise QuestionError(
                f"goals are of periods of time, and {show_option('per', self.per)} is none"
            )
        others = (self.wide, self.totals, self.subtotals, self.shares, self.ranks, self.index)
        if self.beside is not None:
            raise QuestionError(
                f"beside sets periods of time beside each other: {show_option('per', self.per)}"
            )
        if any(others):
            table = f"rhythm(per={self.per!r}, across=..., wide=True)"
            command = f"eptaro rhythm --per {self.per} --across COLUMN --wide"
            cure = f"; for a wide table use {spell_option(table, command)}" if self.wide else ""
            raise QuestionError(
                f"{show_option('per', self.per)} is not a level of time; it cannot be combined "
                f"with wide, totals, subtotals, shares, ranks or index{cure}"
            )

    @property
    def subtotal_levels(self) -> tuple[str, ...]:
        """The wider levels whose periods have rows too."""
        return as_names(self.subtotals)

    @property
    def within_groups(self) -> tuple[str, ...]:
        """The group columns within each of whose values the largest are kept."""
        return as_names(self.top_within)

    @property
    def ranks_each_period(self) -> bool:
        """Whether each period has its own largest groups.

        Raises `QuestionError` for options that set periods beside each other.
        """
        if self.top is None or EACH_PERIOD not in self.within_groups:
            return False
        each = f"{show_option('top_within', EACH_PERIOD)} keeps other groups in each period"
        others = ("wide", "totals", "subtotals", "shares", "index", "every")
        _refuse(self, others, f"{each}, which does not go with")
        return True

    @property
    def of_all_groups(self) -> bool:
        """Whether groups are set beside each other that may lie in several shards."""
        return self.ranks_each_period or self.across is not None

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """The options in use that set groups beside each other, and so need one calendar."""
        layouts = ("wide", "top", "shares", "ranks", "across")
        return tuple(name for name in layouts if getattr(self, name))


@record
class Accumulate(TotalledQuery, GoalsQuery):
    """Return period-to-date (running) totals, which restart at each period of `within`.

    Columns: the groups, `date` (or `period` and `last` where `every` is wider),
    `within`, `first` (the day from which the total runs), `complete` (whether all days
    of the running total lie in the coverage), and for each measure its value over the
    row's own day or period, and `NAME_to_date`.

    Every day of the coverage has a row, so empty days hold the running total. A period
    of `every` that straddles two of `within`, as a week may straddle two years, has a row
    for its part in each. `within="2025-03-01.."` runs on since a fixed date, `"all"` since
    the first day of the coverage. `only` with a span or label picks the rows shown; their
    totals still run from `first`.

    `every="entry"` gives one row per transaction instead: `row`, the groups, `date`,
    `within`, `first`, `last`, `complete` and `NAME_to_date`.

    `goals` (period label, or group value and label, to amount) adds, for the first measure or for
    each, `NAME_goal`, `NAME_goal_to_date`, `NAME_goal_gap` and `NAME_goal_reached` (to date / the
    pace), at the `pace` of a straight line or in the shape of the `prior year`.

    Parameters
    ----------
    within : str
        A level, a first day as `2025-03-01..`, or `all`.
    every : str, optional
        One row per `day`, or wider level up to `within`, or per `entry`; unset, by the day, or by
        the periods that the data is dated by.
    wide : bool
        Sets the groups of one column side by side, each with its numbers, and all of them last.

    Returns
    -------
    Table
        One row per group and day, in time order.

    Raises
    ------
    QuestionError
        Where `every` is wider than `within`.

    See Also
    --------
    trail : Totals of a window that moves along, instead of restarting.
    card : Totals to date of several levels, as of one date.
    recap : Totals of whole periods.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-30", "2025-02-01"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.accumulate("month")["revenue_to_date"].tolist()
    [7, 7, 5]
    """

    verb = "accumulate"
    within: str = option(
        metavar="LEVEL",
        help="Where totals restart: a level such as quarter, a first day (2025-03-01..), or all.",
    )
    _: KW_ONLY
    wide: bool = option(
        False, help="Set days down and one group column across, all groups at the end."
    )
    every: str | None = option(
        None,
        metavar="LEVEL",
        help="One row per day, week, month, ...; by default, per date of the data.",
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        check_texts(within=self.within, every=self.every)
        _check_sort_names(self.sort)
        if self.goals and self.every == "entry":
            raise QuestionError(
                f"goals are of periods, and {show_option('every', 'entry')} has a row per "
                "transaction; leave one of them out"
            )


@record
class Trail(TotalledQuery):
    """Return rolling (trailing) windows: one row per group and day, or per period at its last day.

    The window of day t counts t and reaches `back`: days, weeks, months, quarters, halves,
    years, workdays, active days (with transactions) or entries (that many transactions, by
    time then input order). Months count as months, however sparse the rows: 6 months at
    2025-02-28 are 2024-09-01..2025-02-28. `far_edge="closed"` begins on `shift(t, -n)`
    itself. `ahead="3 days"` reaches on after t; `centred` puts t in the middle of a number
    of days.

    Columns: the groups, `date`, `first`, `last`, `days`, `entries` (transactions in the
    window), `complete` (whether the window lies wholly in the coverage, or holds as many
    active days or entries as asked), and for each measure `NAME_trailing`. Values of
    incomplete windows are kept, or left out with `incomplete="blank"`.

    `every="entry"` gives one row per transaction, with the window of its day, or, of a number of
    entries, the last so many up to it.

    `weights`, oldest first, one per unit of `back`, make it the weighted mean of the
    measure over these units; with months and wider, `every` must be that level.

    Parameters
    ----------
    back : str
        How far windows reach back: `6 months`, `10 workdays`, `5 entries`.
    ahead : str, optional
        How far they reach on.
    every : str, optional
        One row per `day`, or level, or per `entry`; unset, by the day, or by the periods that the
        data is dated by.
    far_edge : {"open", "closed"}
        Closed: begin on the very day that lies so far back.
    centred : bool
        Puts the day in the middle of a number of days.
    incomplete : {"keep", "blank"}
        What becomes of windows beyond the coverage.
    weights : sequence of float, optional
        Oldest first, one per unit of `back`.
    wide : bool
        Sets the groups of one column side by side, each with its numbers, and all of them last.

    Returns
    -------
    Table
        One row per group and day, or period at its last day.

    Raises
    ------
    QuestionError
        For a window that cannot be.

    See Also
    --------
    accumulate : Totals that restart with each period.
    compare : With `trailing`, a window against the one a year before.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-01", "2025-01-03"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> book.trail("2 days")["revenue_trailing"].tolist()
    [7, 7, 5]
    """

    verb = "trail"
    back: str = option(
        metavar="AMOUNT",
        help="How far the window reaches back: '7 days', '6 months', '10 workdays', "
        "'5 active days', '20 entries'.",
    )
    _: KW_ONLY
    ahead: str | None = option(
        None,
        metavar="AMOUNT",
        rare=True,
        help="How far the window reaches beyond the day: '3 days'.",
    )
    wide: bool = option(
        False, help="Set days down and one group column across, all groups at the end."
    )
    every: str | None = option(
        None,
        metavar="LEVEL",
        help="One row per day, week, month, ..., or per entry; by default, per date of the data.",
    )
    far_edge: Edge = option(
        "open",
        metavar="EDGE",
        rare=True,
        shown=True,
        help="open leaves out the day that lies exactly that far back, closed includes it.",
    )
    centred: bool = option(False, rare=True, help="Put the day in the middle of the window.")
    incomplete: Keep = option(
        "keep",
        metavar="HOW",
        rare=True,
        shown=True,
        help="keep or blank values of windows beyond the coverage.",
    )
    weights: Sequence[float] | None = option(
        None,
        metavar="W,W,...",
        rare=True,
        help="Weights, oldest first, for a weighted moving average.",
    )

    def __post_init__(self) -> None:
        _ = self.amount, self.amount_ahead
        for argument, value, accepted in (
            ("far_edge", self.far_edge, get_args(Edge)),
            ("incomplete", self.incomplete, get_args(Keep)),
        ):
            if value not in accepted:
                raise QuestionError(unknown(f"value for {argument}", value, accepted))
        check_texts(every=self.every)
        _check_sort_names(self.sort)

    @property
    def amount(self) -> Amount:
        """How far windows reach back."""
        return Amount.parse(self.back, "back")

    @property
    def amount_ahead(self) -> Amount | None:
        """How far windows reach on."""
        return None if self.ahead is None else Amount.parse(self.ahead, "ahead")


@record
class Compare(TotalledQuery, GoalsQuery):
    """Compare each period with the prior period, like for like; `back` is the distance.

    Columns: the groups, `period`, `first`, `last`, `prior_period`, `prior_first`,
    `prior_last`, `comparable`, `prior_clamped`, then for each measure `NAME`,
    `NAME_prior`, `NAME_change` and `NAME_change_ratio` (the change over the size of the prior
    value, blank where that is 0 or blank). Changes are blank unless both sides lie wholly in
    the coverage, so a part-finished period is never set against a whole one.

    With `to_date` there is one row per group for the period that holds the as-of date, cut
    there, against the prior one cut at its counterpart: under `match` the same date moved
    back, as many days or workdays from the prior period's start, or whole weeks before (4
    per month, 13 per quarter, 26 per half, 52 per year). With `every="day"` it goes day by
    day (`day`, from 1): two running totals, aligned and ready to draw.

    `against` sets all against one period or span, and adds `NAME_growth_per_year`, the
    compound rate from its first day to the row's, where these lie a year or more apart.

    `prior_spans` lists the spans of a mean of several. Several `back` are named by
    endings such as `_1_year`. `details` adds `standing` (groups that are `new` or `lost`),
    and for each measure `NAME_change_per_day` and `NAME_contribution`: the group's change
    over the prior value of all groups, which add up to the change ratio of the whole.
    `effects` adds `NAME_effect_of_KIND` and `NAME_rest` for measures that add up.

    Parameters
    ----------
    per : str
        The level that is compared.
    back : str or sequence of str
        How far back the prior period lies; several appear side by side.
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
        With `to_date`: one row per day, or finer period, of the period.
    trailing : str, optional
        Compares the windows that end with each period.
    details : bool
        Adds change per day, contribution, and who is new or lost.
    effects : {"days", "workdays", "weekdays"}, optional
        Splits changes by the number of days of each kind.
    top : int, optional
        Keeps so many groups, the largest over the days of the current side, and adds up the others.
    groups : {"both"}, optional
        Splits the change of each period among the groups of `by` that both sides have
        (`like for like`), that are `new` and that were `closed` (`standing`), with how many there
        are (`groups`) and which (`named`), and a total. With `coverage="groups"` or a span for each
        group, both sides have those that are covered whole on both; else those with transactions
        on both.
    history : str, optional
        With `groups`: the least history, such as `13 months`, that a group has before the current
        side begins; those that began later are new.
    wide : bool
        Sets the groups of one column side by side, each with its numbers, and all of them last.

    Returns
    -------
    Table
        One row per group and period.

    Raises
    ------
    QuestionError
        Where `back` does not fit `per`; it lists what fits.

    See Also
    --------
    recap : Periods without their counterparts.
    card : Several levels as of one date, with the year before.
    restated : The same periods as they were reported before.

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

    verb = "compare"
    layouts = ("top", "wide", "totals", "groups")
    per: str = option(
        metavar="LEVEL", help="Compare years, halves, quarters, months, weeks or days."
    )
    _: KW_ONLY
    back: str | Sequence[str] = option(
        "1 year",
        metavar="AMOUNT",
        help="How far back the prior period lies: '1 quarter', '2 months'; several are shown side "
        "by side.  [default: 1 year]",
    )
    against: str | None = option(
        None, metavar="WHAT", help="A fixed period (FY2024) or span, instead of --back."
    )
    mean_of: int = option(
        1,
        metavar="N",
        rare=True,
        least=1,
        help="Compare with the mean of the last N prior periods, each --back further.",
    )
    trailing: str | None = option(
        None,
        metavar="AMOUNT",
        rare=True,
        help="Compare the windows that end with each period: '12 months'.",
    )
    every: str | None = option(
        None, metavar="LEVEL", help="With --to-date: one row per day (or week, ...) of the period."
    )
    effects: Effect | None = option(
        None,
        metavar="KIND",
        rare=True,
        help="Split changes by the number of days, workdays or weekdays.",
    )
    wide: bool = option(
        False,
        rare=True,
        help="Set periods down and one group column across, all groups at the end.",
    )
    top: int | None = option(
        None,
        metavar="N",
        heading="groups",
        rare=True,
        help="Keep the N largest groups of the current side; the others are added up in one row.",
    )
    groups: Literal["both"] | None = option(
        None,
        metavar="both",
        heading="groups",
        rare=True,
        help="Split each change among the groups on both sides, like for like, and those that are "
        "new or closed.",
    )
    history: str | None = option(
        None,
        metavar="AMOUNT",
        heading="groups",
        rare=True,
        help="With --groups: groups that began less than AMOUNT ('13 months') before count as new.",
    )
    details: bool = option(
        False, help="Add changes per day, contributions, and who is new or lost."
    )
    to_date: bool = option(
        False, help="Cut the period at the as-of date and the prior one at its counterpart."
    )
    match: Match = option(
        "date",
        metavar="RULE",
        shown=True,
        help="Which prior day is the counterpart: by date, elapsed (the same number of days into "
        "the period), weekday (whole weeks before) or workday (the same number of workdays).",
    )
    align: Align = option(
        "place",
        metavar="HOW",
        rare=True,
        shown=True,
        help="place: the period of the same number; restated: after a 53-week year, the days 52 "
        "weeks before.",
    )
    periods: int = option(
        1, shown=True, help="With --to-date: how many periods, each cut at its own counterpart."
    )

    @property
    def backs(self) -> tuple[str, ...]:
        """How far back each of the prior sides lies; raises `QuestionError` for what is none."""
        back = self.back
        if isinstance(back, str):
            return (back,)
        if not isinstance(back, Sequence) or not all(isinstance(label, str) for label in back):
            raise QuestionError(
                f"{show_option('back', back)} is not an amount of time; write it as '1 year'"
            )
        if not back:
            raise QuestionError("back names no prior period; write '1 year'")
        return tuple(dict.fromkeys(back))

    @property
    def before(self) -> str:
        """What is on the prior side, in words."""
        return ", ".join(self.backs) if self.against is None else f"against {self.against}"

    def check(self) -> None:
        """Raise `QuestionError` for options that cannot be, or cannot be combined."""
        check_texts(per=self.per, against=self.against, every=self.every, history=self.history)
        _check_sort_names(self.sort)
        if self.align not in ALIGNS:
            raise QuestionError(unknown("value for align", self.align, ALIGNS))
        if self.top is not None and self.goals:
            raise QuestionError("goals are of groups by name, which does not go with top")
        if not self.to_date:
            settings = (self.match, self.periods, self.every)
            for name, value, plain in zip(_TO_DATE, settings, ("date", 1, None), strict=True):
                if value != plain:
                    raise QuestionError(
                        f"{name} belongs to {show_option('to_date', True)}; whole periods need none"
                    )
        if self.trailing is not None:
            given_too = {"to_date": self.to_date, "against": self.against, "goals": self.goals}
            for name in (name for name, value in given_too.items() if value):
                raise QuestionError(f"trailing windows go with back, not with {name}")
        self._check_mean()
        if self.history is not None and self.groups is None:
            raise QuestionError(f"history goes with {show_option('groups', 'both')}")
        if self.groups is not None:
            self._check_groups()
        if self.against is not None and self.back != "1 year":
            raise QuestionError(
                f"{show_option('against', self.against)} names the prior period, and so does "
                f"{show_option('back', self.back)}; leave one of them out"
            )
        if self.against and self.align != "place":
            raise QuestionError(
                f"{show_option('align', 'restated')} goes with "
                f"{show_option('back', '1 year')}, not with against"
            )

    def _check_groups(self) -> None:
        if self.groups != "both":
            raise QuestionError(unknown("value for groups", self.groups, ("both",)))
        others = {
            "top": self.top is not None,
            "wide": self.wide,
            "every": self.every is not None,
            "goals": self.goals,
            "mean_of": self.mean_of > 1,
            "several back": len(self.backs) > 1,
        }
        for name in (name for name, value in others.items() if value):
            raise QuestionError(
                f"{show_option('groups', 'both')} and {name} do not go together; leave one out"
            )

    def _check_mean(self) -> None:
        if not 1 <= self.mean_of <= _MOST_PRIORS:
            raise QuestionError(f"mean_of={self.mean_of} must be 1 to {_MOST_PRIORS}")
        others = {
            "against": self.against is not None,
            "effects": self.effects is not None,
            "align": self.align != "place",
        }
        for name in (name for name, value in others.items() if value and self.mean_of > 1):
            raise QuestionError(f"mean_of and {name} do not go together; leave one out")


@record
class Card(GoalsQuery):
    """Return period-to-date figures as of one date: one row per group, calendar and level.

    Columns: the groups, `calendar`, `level`, `period`, `first`, `last` (the as-of date, or
    the last covered day where it is earlier), `days`, `complete`, then `NAME_to_date` for each
    measure. `calendars` are listed one after the other; without any it is the book's own.
    Levels that one does not offer are left out. `trailing` adds windows that end with the day, such
    as `12 months`, named in the column `level`.

    With `back` the same days of the period so far back are set beside: `prior_period`,
    `prior_first`, `prior_last`, `comparable`, `prior_clamped`, and for each measure `NAME_prior`,
    `NAME_change` and `NAME_change_ratio`, as `compare` has them; a level that `back` does not fit
    has none. `goals` adds goals of the first measure, or of each, for the levels that they make up.

    Parameters
    ----------
    calendars : Calendar or sequence of these, optional
        By default the book's own.
    levels : sequence of str
        Levels, where the calendars offer them.
    trailing : str or sequence of str
        Windows that end with the day: `12 months`, `28 days`.
    back : str, optional
        How far back the prior period lies.
    match : {"date", "elapsed", "weekday", "workday"}
        Which day is the counterpart.
    wide : bool
        Sets levels and windows across, with one row per group.

    Returns
    -------
    Table
        One row per group, calendar and level.

    See Also
    --------
    compare : One level, every period.
    accumulate : One level, day by day.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-01", "2025-08-20"], "fare": [7, 5]},
    ...                   date="on", measures="revenue=sum(fare)")
    >>> [(row["level"], row["revenue_to_date"]) for row in book.card().rows()]
    [('week', 5), ('month', 12), ('quarter', 12), ('year', 12)]
    """

    verb = "card"
    _: KW_ONLY
    calendars: Calendar | Sequence[Calendar] | None = None
    levels: Sequence[str] = ("week", "month", "quarter", "year")
    trailing: str | Sequence[str] = option(
        (),
        metavar="AMOUNT",
        help="With --card: add a window that ends on the day, "
        "such as '28 days'. May be given again.",
    )
    back: str | None = option(
        None,
        metavar="AMOUNT",
        help="With --card: add the same days that far back, such as '1 year'.",
    )
    match: Match = "date"
    wide: bool = False

    def __post_init__(self) -> None:
        super().__post_init__()
        check_texts(back=self.back)
        if self.match != "date" and self.back is None:
            raise QuestionError(
                f"{show_option('match', self.match)} belongs to {spell_option('back=', '--back')}"
            )

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """`wide`, where it is in use: the levels side by side are those of one calendar."""
        return ("wide",) if self.wide else ()


@record
class Restated(MeasuredQuery):
    """What has changed since an earlier keeping of the book, in periods that it covered."""

    verb = "restated"
    per: str = option(metavar="LEVEL", help="The periods that were reported: month, quarter, ...")

    def __post_init__(self) -> None:
        check_texts(per=self.per)


@record
class Rhythm(MeasuredQuery):
    """Return the distribution of measures over the values of an attribute, or of two crossed.

    `per` and `across` are `hour`, `weekday`, `day of month`, `week of month` (days 1 to 7
    are the first), `month`, `quarter`, `week` (of the calendar's year), `workday`,
    `holiday` or `day type` (workday, weekend, holiday). Rows are in natural order,
    weekdays from the calendar's first.

    Columns: the groups, the attributes, `days` (how many days of the coverage have the
    values), the measures, and for those that add up `NAME_per_day`: the mean per
    occurrence, so that what fell on 53 Mondays and 52 Tuesdays compares. `wide` sets the
    values of `across` side by side, for the first measure (per day where it adds up).

    Parameters
    ----------
    per : str
        A recurring attribute, such as `weekday` or `hour`.
    across : str, optional
        A second one, crossed with it.
    wide : bool
        Sets the values of `across` side by side.

    Returns
    -------
    Table
        One row per group and value, or pair of values, that days have.

    Raises
    ------
    QuestionError
        For an unknown attribute, or hours where dates have no time.

    See Also
    --------
    recap : Periods in time order; takes attributes such as weekday in `per` as well.
    spread : How single values are distributed, rather than their totals.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18", "2025-08-25"], "fare": [7, 5]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> row = next(book.rhythm("weekday").rows())
    >>> row["weekday"], row["days"], row["revenue"], row["revenue_per_day"]
    ('Monday', 2, 12, 6.0)
    """

    verb = "rhythm"
    per: str = option(
        metavar="ATTRIBUTE",
        help="hour, weekday, day of month, week of month, month, quarter, week, workday, holiday "
        "or day type; with --spread and --histogram also a level such as quarter.",
    )
    across: str | None = option(
        None, metavar="ATTRIBUTE", help="A second attribute: one row for each pair of values."
    )
    _: KW_ONLY
    wide: bool = option(False, help="Set the values of --across side by side.")

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """The options in use that set groups beside each other, and so need one calendar."""
        return ("wide",) if self.wide else ()


@record
class Spread(Query):
    """Return box figures of a column's values, one row per group and value of `per`.

    `per` is a level of the calendar or an attribute (`weekday`, `hour`, ...). Columns: the
    groups, `per`, `entries` (values counted), `mean`, `low`, `quartile_1`, `median`,
    `quartile_3`, `high`, `outliers`, `least` and `most`. Quartiles interpolate linearly;
    `low` and `high` are the furthest values within 1.5 times the distance between the
    quartiles (J. W. Tukey, Exploratory Data Analysis, 1977), what lies beyond is counted in
    `outliers`. The column must be one that a measure of the book works on; or it is the name of
    a measure on the totals of each value of another, of which these are the totals.

    Parameters
    ----------
    column : str
        A column that the book reads numbers of; or a measure such as
        `median(sum(fare) per customer)`, for the total of each customer.
    per : str, optional
        A level of the calendar, or a recurring attribute.

    Returns
    -------
    Table
        One row per group and value of `per`.

    See Also
    --------
    histogram : The values counted in ranges.
    rhythm : Totals by weekday, hour or day type.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18"] * 5, "fare": [1, 2, 3, 4, 90]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> row = next(book.spread("fare").rows())
    >>> row["median"], row["high"], row["outliers"]
    (3.0, 4.0, 1)
    """

    verb = "spread"
    column: str
    per: str | None = None


@record
class Histogram(Query):
    """Return how many values of a column lie in each of some equal ranges.

    The ranges are the same for all groups and values of `per`, and begin at round numbers.
    Columns: the groups, `per`, `from`, `to` (values from `from` to below `to`), `entries`
    and `share` (of the row's group and `per`).

    Parameters
    ----------
    column : str
        A column that the book reads numbers of; or a measure such as
        `median(sum(fare) per customer)`, for the total of each customer.
    per : str, optional
        A level of the calendar, or a recurring attribute.
    bins : int, optional
        About how many ranges, 1 to 1,000; unset, as many as suit how the values are spread (D.
        Freedman and P. Diaconis, On the histogram as a density estimator, 1981), 5 to 60.

    Returns
    -------
    Table
        One row per group, value of `per`, and range.

    See Also
    --------
    spread : Quartiles, whiskers and outliers of the values.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18"] * 3, "fare": [1, 12, 13]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> [(row["from"], row["entries"]) for row in book.histogram("fare", bins=2).rows()]
    [(0.0, 1), (10.0, 2)]
    """

    verb = "histogram"
    column: str
    per: str | None = None
    _: KW_ONLY
    bins: int | None = option(
        None,
        metavar="N",
        rare=True,
        least=1,
        most=_MOST_BINS,
        help="About how many ranges.  [default: as many as suit the values]",
    )

    def __post_init__(self) -> None:
        if self.bins is not None and not 1 <= self.bins <= _MOST_BINS:
            raise QuestionError(f"bins={self.bins} must be from 1 to {_MOST_BINS:,}")

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """Periods, as the ranges are the same for all groups."""
        return ("histogram of periods",) if self.per in LEVELS or self.only is not None else ()

    @property
    def of_all_groups(self) -> bool:
        """Whether groups are set beside each other: the ranges are the same for all."""
        return True


def _check_sort_names(sort: str | Sequence[str] | None) -> None:
    """Raise `QuestionError` for an order that is not made of names of columns."""
    if not isinstance(sort, str | Sequence | None) or not all(
        isinstance(name, str) for name in sort or ()
    ):
        raise QuestionError(
            f"{show_option('sort', sort)} must be the name of a column, or a list of names"
        )


def _refuse(query: Query, names: Sequence[str], reason: str) -> None:
    """Raise `QuestionError` for the first of some options that a query has."""
    for name in names:
        if getattr(query, name):
            raise QuestionError(f"{reason} {name}")


def _goals_of(goals: Goals | None, is_wanted: Callable[[Any], bool]) -> Goals | None:
    if not isinstance(goals, Mapping):
        return goals
    return {
        at: _goals_of(goal, is_wanted) if isinstance(goal, Mapping) else goal
        for at, goal in goals.items()
        if not isinstance(at, tuple) or is_wanted(at[0])
    }
