"""Goals: the part of a goal that is due by each day of its period, and the gap to it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import ROWS
from eptaro.core.aggregation.groups import Groups
from eptaro.core.aggregation.merge import numbered_together
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import last_days, level_of
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.kernels import bigint
from eptaro.core.measures.measure import Measure
from eptaro.core.query.totals import GroupSet
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column, date_column, join_columns
from eptaro.core.results.format import BLANK, DisplayHint
from eptaro.core.verbs.comparison.sides import Sides, of_to_date, of_whole
from eptaro.core.verbs.queries import Accumulate, Compare, Goals, GoalsQuery, Pace, Recap
from eptaro.errors import CalendarError, QuestionError, show_option, unknown
from eptaro.record import record

GOAL_ENDINGS = ("_goal", "_goal_to_date", "_goal_gap", "_goal_reached")
_NAMED = 3  # goals that a note names
Shape = Callable[[Ints, Ints, Ints], NDArray[np.float64]]  # see over_days


@record
class GoalRows:
    """Rows that goals are set against: for each its group, its period's place among `labels`,
    and the last day that it has reached. `within` is the level of the periods.
    """

    within: str
    labels: NDArray[Any]
    group: Ints
    place: Ints
    last: Ints


def goals_of(goals: Goals | None, measure: Measure, measures: Sequence[Measure]) -> Goals | None:
    """Return the goals of one of a question's measures, None where it has none.

    Goals are those of the first measure, or a mapping of measures to theirs. Raises
    `QuestionError` for a measure that is not asked for.
    """
    if goals is None:
        return None
    if not isinstance(goals, Mapping):
        raise QuestionError(f"goals={goals!r} must go from period labels to amounts")
    if not any(isinstance(own, Mapping) for own in goals.values()):
        return goals if measure is measures[0] else None
    names = [measure.name for measure in measures]
    for name, own in goals.items():
        if name not in names:
            raise QuestionError(f"goals: {unknown('measure', name, names)}")
        if not isinstance(own, Mapping):
            raise QuestionError(f"goals of {name!r} must go from period labels to amounts")
    own_goals: Goals | None = goals.get(measure.name)
    return own_goals


def notes_on_goals(facts: BookData, query: GoalsQuery) -> dict[str, str]:
    """Return which goals no row can show, by what is said of them.

    `goals_outside` are of periods before the first day of the book or after the as-of date: those
    of a plan that runs ahead, or of a year that was mistyped. `goals_in_part` are periods that have
    goals for some of their parts alone, which add up to none.
    """
    owners: dict[tuple[str, str], list[Period]] = {}
    period_of = cache(facts.calendar.period)  # groups have goals for the same periods
    for name, own in (query.goals or {}).items():
        for key in own if isinstance(own, Mapping) else [name]:
            group, label = key if isinstance(key, tuple) else ("", key)
            owner = name if isinstance(own, Mapping) else "", str(group)
            owners.setdefault(owner, []).append(period_of(str(label)))
    coverage = facts.coverage_until(query.as_of)
    periods = {period.label: period.span for each in owners.values() for period in each}
    outside = [label for label, span in periods.items() if span.last < coverage.first]
    outside += [label for label, span in periods.items() if span.first > coverage.last]
    in_part: dict[str, None] = {}
    for level in _levels_of_rows(query):
        for own_periods in owners.values():
            in_part |= dict.fromkeys(_in_part(facts.calendar, level, own_periods, coverage))
    notes = {"goals_outside": outside, "goals_in_part": [*in_part]}
    return {name: _first_of(labels) for name, labels in notes.items() if labels}


def _first_of(labels: Sequence[str]) -> str:
    listed = ", ".join(labels[:_NAMED])
    return f"{listed} and {len(labels) - _NAMED:,} more" if len(labels) > _NAMED else listed


def _levels_of_rows(query: GoalsQuery) -> list[str]:
    """Return the levels of the periods whose goals a query shows."""
    match query:
        case Accumulate():
            levels: list[object] = [query.within]
        case Recap():
            levels = [query.per, *query.subtotal_levels]
        case Compare():
            levels = [query.per]
        case _:
            levels = []
    return [str(level) for level in levels if level in LEVELS]


def _in_part(
    calendar: Calendar, level: str, periods: Sequence[Period], coverage: Span
) -> Iterator[str]:
    """Yield the covered periods of a level some of whose parts are among some periods, and some are
    not.
    """
    given: dict[int, set[int]] = {}
    for period in periods:
        if LEVELS.index(period.level) > LEVELS.index(level):
            whole = int(calendar.index_of(np.array([period.span.lo]), level)[0])
            given.setdefault(whole, set()).add(period.index)
    for whole, parts in given.items():
        at = np.array([whole])
        ends = (calendar.first_days(at, level), calendar.last_days(at, level))
        lo, hi = (int(calendar.index_of(end, periods[0].level)[0]) for end in ends)
        if len(parts) <= hi - lo and ends[0][0] <= coverage.hi and ends[1][0] >= coverage.lo:
            yield str(calendar.labels(at, level)[0])


def goals_of_some(
    view: View,
    measure: Measure,
    goals: Goals,
    pace: Pace,
    parts: Sequence[tuple[Ints, GoalRows]],
    reached: Column,
) -> list[Column]:
    """Return the columns of goals for rows of several levels: for some places of rows each its
    periods; blank in all other rows.

    The places of all parts are `(n_rows,)` together.
    """
    per_part = [
        goal_columns(view, measure, goals, pace, rows, reached.take(places))
        for places, rows in parts
    ]
    at = np.full(len(reached), -1)
    places = np.concatenate([places for places, _ in parts])
    at[places] = np.arange(len(places))
    filled_goals = []
    for number, column in enumerate(per_part[0]):
        all_parts = join_columns([columns[number] for columns in per_part])
        filled = all_parts.take(np.maximum(at, 0)).blanked(at >= 0)
        filled_goals.append(replace(filled, name=column.name, face=column.face))
    return filled_goals


def goal_columns(
    view: View, measure: Measure, goals: Goals, pace: Pace, rows: GoalRows, reached: Column
) -> list[Column]:
    """Return a measure's goal per period, its pace to date, and the gap to it.

    `goals` maps a period's label to its goal, or `(group value, label)` where the rows are
    grouped; goals of shorter periods, such as months in a quarter, add up where there is one for
    each. The straight pace is goal * days elapsed / days; `prior year` follows the
    share that the prior year's period had reached at the counterpart of the day. Periods
    without a goal are blank. Raises `QuestionError` for a label of no period shown.
    """
    within = rows.within
    if within not in view.calendar.levels:
        raise QuestionError(f"goals need whole periods; {show_option('within', within)} is none")
    level = level_of_goals(view, goals, within)
    parts, starts = (rows, None) if level == within else _split_into_periods(view, rows, level)
    scale = _scale_of(goals, reached)
    goal = _units(view, goals, parts, scale)
    index = np.array([view.calendar.period(str(label)).index for label in parts.labels])[
        parts.place
    ]
    first, end = view.calendar.first_days(index, level), view.calendar.last_days(index, level)
    if pace == "straight":
        share = (parts.last - first + 1) / (end - first + 1)
    else:
        share = _prior_share(view, measure, parts, index)
    if starts is not None:  # a part that is over counts whole, one that has not begun not at all
        share = np.where(parts.last < first, 0.0, np.where(parts.last >= end, 1.0, share))
    to_date = goal * share
    if starts is not None:
        goal, to_date = np.add.reduceat(goal, starts), np.add.reduceat(to_date, starts)
    unit = 10.0**scale
    by_pace, come = to_date / unit, reached.numbers()
    with np.errstate(over="ignore"):
        ratio = np.divide(come, by_pace, out=np.full(len(goal), np.nan), where=to_date > 0)
    gap = come - by_pace
    if reached.kind != "float":  # of a goal that is met to the cent nothing is left
        gap = (reached.units() * 10.0 ** (scale - reached.scale) - to_date) / unit
    return [
        _goal_column(measure, "goal", goal / unit, reached, "The period's goal"),
        _goal_column(
            measure, "goal_to_date", by_pace, reached, f"The goal's {pace} pace by the day"
        ),
        _goal_column(
            measure, "goal_gap", gap, reached, "To date less the pace; negative is behind"
        ),
        replace(
            _goal_column(measure, "goal_reached", ratio, reached, "To date / the pace"),
            format=None,
            unit="share",
        ),
    ]


def _goal_column(
    measure: Measure, part_name: str, numbers: NDArray[np.float64], like: Column, text: str
) -> Column:
    """Return the column of a part of a goal; `numbers` is `(n_rows,)`, not a number where blank."""
    valid = ~np.isnan(numbers)
    return Column.of(
        f"{measure.name}_{part_name}",
        "float",
        np.where(valid, numbers, 0.0),
        valid,
        description=text,
        format=like.format,
        face=DisplayHint(part_name.replace("_", " "), of=measure.name),
    )


def _scale_of(goals: Goals, reached: Column) -> int:
    """Return the decimals with which all goals and what was reached are whole numbers that floats
    hold; 0 where there is no such number.
    """
    amounts = [amount for goal in goals.values() if (amount := Decimal(str(goal))).is_finite()]
    scale = max(reached.scale, *(-int(amount.as_tuple().exponent) for amount in amounts), 0)
    fits = all(abs(amount).scaleb(scale) < _WHOLE for amount in amounts)
    return scale if fits and scale <= _MOST_DECIMALS else 0


_WHOLE, _MOST_DECIMALS = 2**53, 18  # floats below the first hold every whole number


def _units(view: View, goals: Goals, rows: GoalRows, scale: int) -> NDArray[np.float64]:
    """Return the goal of each row in units of 10**-scale, NaN where it has none."""
    names = [str(label) for label in rows.labels]
    mine = _words_of_groups(view.groups)
    goal_groups = view.global_value("goals", GroupSet(view.groups)).groups
    words = mine if goal_groups is view.groups else _words_of_groups(goal_groups)
    table, fits = np.full((len(mine), len(names)), np.nan), False
    for key, amount in goals.items():
        groups, label = list(range(len(mine))), str(key)
        if isinstance(key, tuple):
            word, label = _word_of_group(key[0], words), str(key[1])
            if word not in words and not view.names_groups:  # else it may be one left out
                raise QuestionError(
                    f"goals: {unknown('group', BLANK if word is None else word, words)}"
                )
            groups = [mine[word]] if word in mine else []
        label = view.calendar.period(label).label
        if label not in names:
            continue  # of a period that has no row here
        fits = True
        table[groups, names.index(label)] = float(Decimal(str(amount)).scaleb(scale))
    if goals and not fits:
        keys = [str(key[1] if isinstance(key, tuple) else key) for key in goals]
        here, there = (", ".join([*of[:3], *["..."][: len(of) > 3]]) for of in (names, keys))
        raise QuestionError(
            f"goals: none is for a {rows.within} of these rows ({here}): they are for {there}"
        )
    units: NDArray[np.float64] = table[rows.group, rows.place]
    return units


def level_of_goals(view: View, goals: Goals, within: str = "year") -> str:
    """Return the level of the periods that goals are given for: `within`, or one whose periods make
    up those.
    """
    calendar = view.calendar
    levels: dict[str, str] = {}
    for key in goals:
        label = str(key[1] if isinstance(key, tuple) else key)
        try:
            levels.setdefault(calendar.period(label).level, label)
        except CalendarError as error:
            raise CalendarError(f"goals: {error}") from None
    if len(levels) > 1:
        one, two = [*levels.items()][:2]
        raise QuestionError(
            f"goals: {one[1]} is a {one[0]} and {two[1]} a {two[0]}; give all for one level"
        )
    level = next(iter(levels), within)
    if LEVELS.index(level) < LEVELS.index(within):
        raise QuestionError(
            f"goals: {levels[level]} is a {level}, and the goals of these rows are per {within}; "
            f"give one for each {within} or a part of it"
        )
    return level


def finest_level(view: View, goals: Goals) -> int:
    """Return the place among all levels of the one that goals are for. Where those at hand have
    none, as groups of a shard may, all levels have rows for them, which are blank.
    """
    return LEVELS.index(level_of_goals(view, goals)) if goals else len(LEVELS)


def _split_into_periods(view: View, rows: GoalRows, level: str) -> tuple[GoalRows, Ints]:
    """Return rows once for each shorter period in theirs, `(n_parts,)`, and where the parts of each
    row begin, `(n_rows,)`.
    """
    calendar = view.calendar
    whole = np.array([calendar.period(str(label)).index for label in rows.labels])
    first = calendar.first_days(whole, rows.within)
    last = calendar.last_days(whole, rows.within)
    lo, hi = calendar.index_of(first, level), calendar.index_of(last, level)
    begins, ends = calendar.first_days(lo, level), calendar.last_days(hi, level)
    if (begins != first).any() or (ends != last).any():
        raise QuestionError(
            f"goals per {level} do not add up to a {rows.within}: a {level} may lie in two of them"
        )
    count = (hi - lo + 1)[rows.place]
    starts = np.cumsum(count) - count
    row = np.repeat(np.arange(len(count)), count)
    index = lo[rows.place][row] + np.arange(len(row)) - starts[row]
    distinct, place = np.unique(index, return_inverse=True)
    labels = calendar.labels(distinct, level)
    until = np.minimum(rows.last[row], calendar.last_days(index, level))
    return GoalRows(level, labels, rows.group[row], place, until), starts


def _words_of_groups(groups: Groups) -> dict[Any, int]:
    """Return what groups are called, None for the blank one, and the place of each."""
    if not groups.names:
        return {None: 0}
    if len(groups.names) != 1:
        raise QuestionError("goals go by one group column at most")
    (column,) = groups.columns(np.arange(groups.count))
    words = column.to_list()
    return {None if word is None else str(word): place for place, word in enumerate(words)}


def _word_of_group(value: Any, words: Collection[Any]) -> str | None:
    """Return what a group is called; None, `(blank)` and the empty text name the blank one where no
    word of the groups is so.
    """
    word = None if value is None else str(value)
    return None if word not in words and word in ("", BLANK) else word


def prior_year_shape(plan: Groups, view: View, measure: Measure, level: str) -> Shape:
    """Return how groups of a plan, the first days of periods and days lead to the share of a
    measure that the prior year's period had reached at the counterpart of the day; NaN where that
    is not known.
    """
    own, theirs = numbered_together([plan.drop_unused(), view.groups.drop_unused()])[1]
    place_of = np.full(int(max(own.max(initial=-1), theirs.max(initial=-1))) + 1, -1)
    place_of[theirs] = np.arange(len(theirs))

    def shares(group: Ints, first: Ints, days: Ints) -> NDArray[np.float64]:
        place = place_of[own[group]] if plan.names else np.zeros_like(group)
        index = np.maximum(place, 0)
        rows = GoalRows(level, np.zeros(0, str), index, np.zeros_like(index), days)
        prior_shares = _prior_share(view, measure, rows, view.calendar.index_of(first, level))
        return np.where(place < 0, np.nan, prior_shares)

    return shares


def _prior_share(view: View, measure: Measure, rows: GoalRows, index: Ints) -> NDArray[np.float64]:
    """Return how much of the prior year's period was reached at the counterpart of each day.

    `index` and the shares are `(n_rows,)`.
    """
    within, group, last = rows.within, rows.group, rows.last
    whole = Sides.of(view.calendar, within, index)
    before = of_whole(view, within, "year")(whole, 1)
    to_date = of_to_date(view, within, "year", "date")(replace(whole, last=last), 1)
    begin, end, exists = before.first, before.last, before.exists & to_date.exists
    whole_value = view.value(measure, group, begin, end).numbers()
    part = view.value(measure, group, to_date.first, to_date.last).numbers()
    defined = (
        exists & view.complete(begin, end, group) & ~np.isnan(whole_value) & (whole_value != 0)
    )
    share: NDArray[np.float64] = np.divide(
        part, whole_value, out=np.full(len(part), np.nan), where=defined
    )
    return share


def over_days(view: View, name: str, shape: Shape | None = None) -> list[Column]:
    """Return the sums of a view of a book dated by periods, spread over their days: the groups, the
    day under a `name`, and a column for each measure.

    What is due by the k-th of n days is k / n of the sum, or what `shape` returns for groups, the
    first days of periods and days, `(n_days,)` each: a share, NaN where it is not known. Whole
    numbers and decimals are dealt out in whole units, so that the days add up to the sum. Raises
    `QuestionError` for a measure that is no sum.
    """
    facts = view.facts
    if facts.folded.grain == "day":
        raise QuestionError(f"{facts.source} is dated by the day; nothing need be spread")
    odd = [measure.name for measure in facts.measures if measure.additive_plane is None]
    if odd:
        raise QuestionError(
            f"only sums and counts can be spread over days: leave out {', '.join(odd)}, or ask by "
            f"the {level_of(facts.folded.grain)}"
        )
    group, first = view.cells.axis.cells_of()
    cell = np.arange(len(group))
    filled = view.cells.sums(ROWS, cell, cell + 1).data > 0
    cell, group, first = cell[filled], group[filled], first[filled]
    count = last_days(first, facts.folded.grain) - first + 1
    row = np.repeat(np.arange(len(cell)), count)
    nth = np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)
    days = first[row] + nth
    due = (nth + 1) / count[row]
    if shape is not None:
        share = shape(group[row], first[row], days)
        due = np.where(np.isnan(share) | (nth + 1 == count[row]), due, share)
    columns = view.groups.columns(group[row])
    columns.append(date_column(name, days, None, "Day of the period"))
    for measure in facts.measures:
        value = measure.over_cells(view.cells, cell, cell + 1, {})
        spread = _dealt_out(value.take(row), nth, count[row], due, straight=shape is None)
        columns.append(spread.named(measure.name, measure.formula))
    return columns


def _dealt_out(
    sums: Column, nth: Ints, count: Ints, due: NDArray[np.float64], *, straight: bool
) -> Column:
    """Return what is due on each day: by its end, less what was due before.

    All arrays are `(n_days,)`.
    """
    if sums.kind == "float":
        upto: NDArray[Any] = sums.data * due
    else:
        units = bigint.widen(sums.data)
        upto = (2 * units * (nth + 1) + count) // (2 * count)
        if not straight:
            upto = np.where(nth + 1 == count, units, bigint.widen(np.floor(sums.data * due + 0.5)))
    before = np.where(nth == 0, 0, np.append(0, upto[:-1]))
    own = upto - before
    return replace(sums, data=own if sums.kind == "float" else bigint.narrow_integers(own))
