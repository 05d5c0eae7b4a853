"""A comparison in words: the last change, what it is compared with, or why nothing is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.calendars.levels import Amount
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import Change, InParts, Mean, Value, ViewLineage, value_of
from eptaro.core.query.query import EVERY, group_names
from eptaro.core.results.column import Column
from eptaro.core.results.format import format_column, with_plus
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Compare
from eptaro.errors import count_noun
from eptaro.presentation.words import (
    DayRange,
    Movement,
    as_title,
    describe_value,
    format_value,
    group_named,
    group_noun,
    has_values_apart,
    headline_measures,
    largest_of,
    sentence,
    uncovered,
    value_over,
)

_FEW = 3  # groups that a sentence names


def describe_comparison(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of a comparison."""
    query = answer.question
    assert isinstance(query, Compare)
    changes = [number for number in answer.numbers.values() if isinstance(number, Change)]
    if not changes:
        return _of_words(answer, query)
    row = _last_comparable(answer, changes[0])
    if row is None:
        return _explain_no_comparison(answer, changes[0])
    return " ".join(_sentences(table, answer, query, row))


def _last_comparable(answer: ViewLineage, change: Change) -> int | None:
    """Return the row of the last period that is compared, None where there is none."""
    places = answer.rows[change.comparable[answer.rows]]
    if not len(places):
        return None
    place = places[np.argmax(change.now.side.last[places])]
    return int(np.flatnonzero(answer.rows == place)[0])


def _of_words(answer: ViewLineage, query: Compare) -> str:
    """Return the last value of a measure of texts or dates, with which nothing is calculated."""
    now = next((n for n in answer.numbers.values() if isinstance(n, Value)), None)
    if now is None or answer.view.groups.count > 1:
        return ""
    places = answer.rows[np.asarray(now.side.last)[answer.rows] <= answer.view.coverage.hi]
    if not len(places):
        return ""
    place = int(places[np.argmax(np.asarray(now.side.last)[places])])
    days = _days(now, place)
    value = format_value(value_over(answer.view, now.measure, days))
    return f"{as_title(now.measure.name)} in {_label(answer, query, days)}: {value}."


def _explain_no_comparison(answer: ViewLineage, change: Change) -> str:
    """Return the value of the last period, of those covered whole where there are any, and why
    there is nothing to compare it with.
    """
    measure, side, view, rows = change.now.measure, change.now.side, answer.view, answer.rows
    whole = np.asarray(view.complete(side.first[rows], side.last[rows]))
    rows = rows[whole] if whole.any() else rows
    place = int(rows[int(np.argmax(side.last[rows]))])
    days = _days(change.now, place)
    value = describe_value(answer, measure, days, value_over(view, measure, days))
    words = f"{as_title(measure.name)} {days.when}: {value}. Nothing to compare"
    if view.data_age:
        return f"{words}: {view.data_age}."
    if side.exists is not None and not side.exists[place]:
        return f"{words}: there is no such period."
    before = change.before.values if isinstance(change.before, Mean) else (change.before,)
    for part in (change.now, *before):
        if part.side.exists is not None and not part.side.exists[place]:
            return f"{words}: there is no prior period."
        span = _days(part, place)
        if why := uncovered(view, span.first, span.last):
            what = "" if part is change.now else "of the prior period, "
            return f"{words}: {what}{why}."
    return f"{words}: the data covers only {view.coverage.first} to {view.coverage.last}."


def _sentences(table: Result, answer: ViewLineage, query: Compare, row: int) -> Iterator[str]:
    when, before = _describe_when(answer, query, row), _describe_prior(answer, query, row)
    place = int(answer.rows[row])
    apart = _reason_not_together(answer, place)
    for number, measure in enumerate(headline_measures(answer)):
        change = _change_of(answer, measure)
        if change is None:
            continue
        days = _days(change.now, place)
        now = value_over(answer.view, measure, days)
        moved = Movement(now, _prior(answer, change, place))
        begin = f"{as_title(measure.name)}{'' if number else when}: "
        begin += describe_value(answer, measure, days, now)
        if has_values_apart(answer.view, measure, days, now):  # each group is compared by itself
            yield f"{begin}."
        elif not moved.is_known or apart:
            yield f"{begin}. Nothing to compare{apart}."
        elif number:
            yield f"{begin}, {str(moved).removesuffix(' on').removesuffix(' as')}."
            continue
        else:
            yield f"{begin}, {moved} {before}."
        yield from _largest_change(table, answer, row)
        if not query.to_date:
            yield from _left_out(answer, query, row)
        elif answer.view.data_age:
            yield sentence(answer.view.data_age)


def _reason_not_together(answer: ViewLineage, place: int) -> str:
    """Return why all groups together are not compared: some are not known on both sides."""
    change = next(n for n in answer.numbers.values() if isinstance(n, Change))
    first, last = (np.asarray(end) for end in (change.now.side.first, change.now.side.last))
    same = (first == first[place]) & (last == last[place])
    missing = int((same & ~change.comparable).sum())
    groups = "group is" if missing == 1 else "groups are"
    return f": {missing} {groups} not covered on both sides" if missing else ""


def _days(value: Value, place: int) -> DayRange:
    return DayRange(int(value.side.first[place]), int(value.side.last[place]))


def _change_of(answer: ViewLineage, measure: Measure) -> Change | None:
    """Return the first change of a measure: with several prior sides there are several."""
    changes = (n for n in answer.numbers.values() if isinstance(n, Change) and not n.ratio)
    return next((change for change in changes if change.now.measure is measure), None)


def _prior(answer: ViewLineage, change: Change, place: int) -> Column:
    """Return the value before, of all groups together."""
    sides = change.before.values if isinstance(change.before, Mean) else (change.before,)
    measure = change.now.measure
    values = [value_over(answer.view, measure, _days(side, place)) for side in sides]
    if len(values) == 1:
        return values[0]
    mean = np.mean([value.numbers() for value in values], axis=0)
    return Column.of("", "float", mean, ~np.isnan(mean), format=values[0].format)


def _describe_when(answer: ViewLineage, query: Compare, row: int) -> str:
    change = next(n for n in answer.numbers.values() if isinstance(n, Change))
    days = _days(change.now, int(answer.rows[row]))
    if query.trailing is not None:
        return f" over the {query.trailing} to {DayRange(days.last, days.last)}"
    label = _label(answer, query, days)
    if query.to_date and not _is_whole_period(answer, query, days):
        return f" in {label} to date"
    return f" {'on' if query.per == 'day' else 'in'} {label}"


def _label(answer: ViewLineage, query: Compare, days: DayRange) -> str:
    """Return the label of the period that some days are of."""
    calendar = answer.view.calendar
    index = calendar.index_of(np.array([days.last]), query.per)
    return calendar.shown_label(str(calendar.labels(index, query.per)[0]))


def _is_whole_period(answer: ViewLineage, query: Compare, days: DayRange) -> bool:
    """Return whether some days are one whole period."""
    calendar = answer.view.calendar
    index = calendar.index_of(np.array([days.last]), query.per)
    first, last = calendar.first_days(index, query.per), calendar.last_days(index, query.per)
    return (int(first[0]), int(last[0])) == (days.first, days.last)


def _describe_prior(answer: ViewLineage, query: Compare, row: int) -> str:
    """Return what is on the prior side, in words."""
    change = next(n for n in answer.numbers.values() if isinstance(n, Change))
    place = int(answer.rows[row])
    if isinstance(change.before, Mean):
        return f"the mean of the {query.mean_of} periods before"
    now, prior = _days(change.now, place), _days(value_of(change.before), place)
    if query.trailing is not None:
        return f"the {query.trailing} to {DayRange(prior.last, prior.last)}"
    if not query.to_date:
        whole = _is_whole_period(answer, query, prior)
        return _label(answer, query, prior) if whole else f"{prior}"
    label = _label(answer, query, prior)
    if query.match == "workday":
        return f"as many workdays of {label}, {prior}"
    if query.match == "weekday":
        return f"the same weekdays, {prior}"
    if now.count != prior.count:
        return f"{prior}"
    days = "day" if now.count == 1 else f"{now.count} days"
    steps = query.against is None and Amount.of_levels(query.backs[0], "back").unit == "year"
    return f"the {'same' if steps and query.match == 'date' else 'first'} {days} of {label}"


def _largest_change(table: Result, answer: ViewLineage, row: int) -> Iterator[str]:
    """Return which group changed most over the same days."""
    change = _change_of(answer, answer.view.facts.measures[0])
    if change is None or answer.view.groups.count < 2:
        return
    side, place = change.now.side, int(answer.rows[row])
    same = (side.last[answer.rows] == side.last[place]) & change.comparable[answer.rows]
    same = same & (side.first[answer.rows] == side.first[place])
    if answer.others is not None:
        same = same & ~answer.others
    name = next(n for n, number in answer.numbers.items() if number is change)
    rows = np.flatnonzero(same)
    if name not in table or not len(rows):
        return
    column = table.column(name).take(rows)
    at = largest_of(np.abs(column.numbers()))
    if at is None or column.numbers()[at] == 0:
        return
    words = with_plus(format_column(column)[at])
    yield f"The {group_noun(answer)} that changed most: {group_named(answer, rows[at])}, {words}."


def _left_out(answer: ViewLineage, query: Compare, row: int) -> Iterator[str]:
    """Name a later period that is not compared because it is not complete."""
    change = next(n for n in answer.numbers.values() if isinstance(n, Change))
    side = change.now.side
    last = int(np.argmax(side.last[answer.rows]))
    if side.last[answer.rows[last]] > side.last[answer.rows[row]]:
        place = answer.rows[last]
        days = DayRange(int(side.first[place]), int(side.last[place]))
        why = uncovered(answer.view, days.first, days.last)
        label = _label(answer, query, days)
        yield f"{label} is not complete and is not compared{': ' if why else ''}{why}."


def describe_standings(table: Result, answer: InParts, query: Compare) -> Iterator[str]:
    """Yield the sentences of all groups, and what each kind of them makes of the last change."""
    whole = answer.parts[0]
    first, _, more = describe_comparison(Result([], table.meta, whole), whole).partition(". ")
    yield f"{first.rstrip('.')}."
    change = next((n for n in whole.numbers.values() if isinstance(n, Change)), None)
    row = None if change is None else _last_comparable(whole, change)
    name = f"{whole.measures[0]}_change"
    if change is None or row is None or name not in table:
        return
    names = group_names(query.by)
    noun = names[0].replace("_", " ") if len(names) == 1 and names != [EVERY] else "group"
    days = _days(change.now, int(whole.rows[row]))
    ends = [table.column(end).data.astype(np.int64) for end in ("first", "last")]
    part = table.take(np.flatnonzero((ends[0] == days.first) & (ends[1] == days.last)))
    lists = [part.column(head).to_list() for head in ("standing", "groups", "named")]
    lists += [format_column(part.column(head)) for head in (name, f"{name}_ratio")]
    words = []
    for kind, count, which, value, ratio in zip(*lists, strict=True):
        if which:  # all of them have no name
            who = which if kind != "like for like" and count <= _FEW else count_noun(count, noun)
            share = f" ({ratio})" if ratio else ""
            words.append(f"{kind} ({who}): {with_plus(value)}{share}")
    if words:
        yield f"{as_title(whole.measures[0])} {'; '.join(words)}."
    if more:
        yield more
