"""`headline`: one plain sentence with the answer of the question that a table was asked."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.days import Flags, Ints, as_date
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import AcrossLineage, InParts, Value, ViewLineage, value_of
from eptaro.core.query.query import ADJUSTMENT, TotalledQuery
from eptaro.core.query.view import View
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.core.results.format import BLANK, Priority, escape_controls, format_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.periods import spans_of
from eptaro.core.verbs.queries import Accumulate, Compare, Histogram, Recap, Restated, Spread, Trail
from eptaro.errors import count_noun
from eptaro.presentation.words import (
    DayRange,
    as_title,
    describe_value,
    format_value,
    group_named,
    group_noun,
    headline_measures,
    largest_of,
    sentence,
    uncovered,
    value_over,
)

_MOST_PARTS = 4


def headline(table: Result, measure: str | None = None) -> str:
    """Return the answer in words, of all measures or of the one that is named; empty where a
    table has no rows or answers no question.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18", "2025-08-20"], "fare": [7, 5]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> headline(book.accumulate("month"))
    'Revenue in 2025-08 to date: 12 (2025-08-01 to 2025-08-20, 20 days).'
    """
    parts = table.parts
    if parts is not None and measure is None:  # the result of all groups together
        return "" if parts.of_all is None else headline(parts.of_all())
    return escape_controls(_of_answer(table, measure))


def footer(table: Result) -> str:
    """Return the line that states calendar, coverage and as-of, as far as known."""
    words = {"calendar": "", "coverage": "coverage ", "as_of": "as of "}
    words |= {"ends_first": "the last day of "}
    words |= {"dated_by": "dated by the ", "rejected": "left out "}
    words |= {"goals_outside": "goals without a row: "}
    words |= {"goals_in_part": "without a goal, as some of their parts have none: "}
    words |= {"adjustments": "left out "}
    words |= {"where": "where ", "data_age": "", "undecided": "", "by_input_order": ""}
    parts = [f"{word}{table.meta[key]}" for key, word in words.items() if table.meta.get(key)]
    return escape_controls(" · ".join(parts))


def _of_answer(table: Result, measure: str | None) -> str:
    answer = table.answer
    if answer is None or isinstance(answer.question, Restated):
        return str(table.meta.get("headline", ""))
    if not len(table):
        return ""
    if isinstance(answer, AcrossLineage):
        return _of_answer(answer.together, measure) if len(answer.rows) == answer.count else ""
    if isinstance(answer, InParts):
        query = answer.question
        if isinstance(query, Recap) and answer.others is not None:
            return _of_each_period(table, answer)
        if isinstance(query, Compare) and query.groups is not None:
            from eptaro.presentation.comparisons import describe_standings

            return " ".join(describe_standings(table, answer, query))
        if isinstance(query, TotalledQuery) and query.totals:
            return _of_groups(table, answer)
        if len(answer.parts) > 1 and ADJUSTMENT in answer.parts[1].by:
            return _beside_adjustments(table, answer)
        return " ".join(_in_parts(table, answer))
    if not isinstance(answer, ViewLineage) or len(answer.rows) < len(answer.group):
        return str(table.meta.get("headline", ""))  # one made of it would describe other rows
    return _describe(table, answer if measure is None else _narrow_to_measure(answer, measure))


def _narrow_to_measure(answer: ViewLineage, measure: str) -> ViewLineage:
    """Return an answer as if one of its measures were the only one."""
    facts = answer.view.facts
    own = tuple(own_measure for own_measure in facts.measures if own_measure.name == measure)
    alone = replace(facts, measures=own)
    return replace(answer, view=replace(answer.view, facts=alone))


def _of_groups(table: Result, answer: InParts) -> str:
    """Return the sentences of groups that are followed by all of them together."""
    rows = np.flatnonzero(answer.part == 0)
    own = answer.parts[0].take(answer.rows[rows])
    if len(own.rows) < len(own.group):
        return str(table.meta.get("headline", ""))
    return _describe(Result(table.take(rows).columns, table.meta, own), own)


def _beside_adjustments(table: Result, answer: InParts) -> str:
    """Return the sentences of months, with what adjustment periods have beside them."""
    rows = np.flatnonzero(answer.part == 0)
    own = answer.parts[0].take(answer.rows[rows])
    if len(own.rows) < len(own.group):
        return str(table.meta.get("headline", ""))
    first, _, rest = _describe(Result(table.take(rows).columns, table.meta, own), own).partition(
        ". "
    )
    adjusted, measures = answer.parts[1].view, headline_measures(own)
    if not measures or measures[0].is_staged:
        return f"{first}. {rest}"
    days = DayRange(adjusted.seen.lo, adjusted.seen.hi)
    value = format_value(value_over(adjusted, measures[0], days))
    return f"{first.rstrip('.')}, and {value} in adjustment periods. {rest}".rstrip()


def _in_parts(table: Result, answer: InParts) -> Iterator[str]:
    """Yield a sentence for each of the calendars that groups keep."""
    for number, part in enumerate(answer.parts[:_MOST_PARTS]):
        rows = np.flatnonzero(answer.part == number)
        if len(rows):
            own = part.take(answer.rows[rows])
            words = _describe(Result(table.take(rows).columns, table.meta, own), own)
            alone = own.view.groups.count == 1
            name = group_named(own, 0) if alone else own.view.calendar.name
            sentence = words.partition(". ")[0].rstrip(".")
            yield f"{name}: {sentence}." if sentence else ""


def _of_each_period(table: Result, answer: InParts) -> str:
    """Return the sentence of the last period, and which group was the largest most often."""
    leaders = Counter(group_named(part, 0) for part in answer.parts)  # the largest is the first
    own = answer.parts[-1]
    rows = Result([], table.meta, own)
    sentence = _describe(rows, own).partition(". ")[0].rstrip(".")
    name, times = leaders.most_common(1)[0]
    noun = group_noun(own)
    return f"{sentence}. Largest {noun} in {times:,} of {len(answer.parts):,} periods: {name}."


def _describe(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of one verb."""
    query = answer.question
    if getattr(query, "every", None) == "entry":
        return f"One row for each of {len(table):,} transactions."
    if isinstance(query, Recap) and query.recurs:
        return describe_attribute(table, answer)
    if isinstance(query, Compare):
        from eptaro.presentation.comparisons import describe_comparison

        return describe_comparison(table, answer)
    describe = _DESCRIBE.get(query.verb)
    return "" if describe is None else describe(table, answer)


def describe_attribute(table: Result, answer: ViewLineage) -> str:
    """Return where the first measure, per day where it adds up, is highest and lowest."""
    measure = answer.view.facts.measures[0]
    name, of = f"{measure.name}_per_day", "per day "
    if name not in table:
        name, of = measure.name, ""
    if name not in table or table.column(name).kind in NO_NUMBERS:
        return ""
    column = table.column(name)
    numbers = column.numbers()
    high, low = largest_of(numbers), largest_of(-numbers)
    if high is None or low is None:
        return ""
    keys = [c for c in table.columns if c.face is not None and c.face.rank is Priority.KEY]
    if not keys:
        return ""

    def where(row: int) -> str:
        words = [group_named(answer, row)] if answer.by else []
        return ", ".join([*words, *(str(key.to_list()[row]) for key in keys)])

    title = f"{as_title(measure.name)} {of}".rstrip()
    if numbers[high] == numbers[low]:
        return f"{title} is the same everywhere: {format_value(column, high)}."
    text = f"{title}: highest for {where(high)} ({format_value(column, high)})"
    return f"{text}, lowest for {where(low)} ({format_value(column, low)})."


def describe_spread(table: Result, answer: ViewLineage) -> str:
    """Return between which values the middle half lies."""
    query = answer.question
    assert isinstance(query, Spread)
    if not {"quartile_1", "median", "quartile_3", "outliers", "entries"} <= set(table.names):
        return ""
    return " ".join(_boxes(table, answer, query.column))


def _boxes(table: Result, answer: ViewLineage, name: str) -> Iterator[str]:
    low, middle, high = (table.column(part) for part in ("quartile_1", "median", "quartile_3"))
    if len(table) == 1:
        outside = int(table.column("outliers").data[0])
        yield (
            f"Half of the values of {name} lie between {format_value(low)} and "
            f"{format_value(high)}, the median is {format_value(middle)}."
        )
        yield f"{outside:,} lie far outside." if outside else "None lies far outside."
        return
    most, least = largest_of(middle.numbers()), largest_of(-middle.numbers())
    if most is None or least is None:
        return
    stop = table.names.index("entries")
    keys = table.columns[:stop]

    def where(row: int) -> str:
        return ", ".join(format_column(key.take(np.array([row])))[0] or BLANK for key in keys)

    yield (
        f"The median of {name} is highest for {where(most)} ({format_value(middle, most)}) "
        f"and lowest for {where(least)} ({format_value(middle, least)})."
    )


def describe_histogram(table: Result, answer: ViewLineage) -> str:
    """Return which range holds most values."""
    query = answer.question
    assert isinstance(query, Histogram)
    if not {"from", "to", "entries"} <= set(table.names):
        return ""
    begins, entries = table.column("from"), table.column("entries").data
    _, row, of = np.unique(begins.data, return_index=True, return_inverse=True)
    counts = np.bincount(of, entries)
    at = int(np.argmax(counts))
    first, last = (format_value(table.column(name), int(row[at])) for name in ("from", "to"))
    share = Column.of("", "float", [counts[at] / counts.sum()], unit="share")
    return (
        f"Most values of {query.column} lie from {first} to below {last}: {counts[at]:,.0f} of "
        f"{counts.sum():,.0f} ({format_value(share)})."
    )


def describe_recap(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of a recap."""
    query = answer.question
    assert isinstance(query, Recap)
    if "spans" in table.meta:
        return " ".join(_of_spans(answer, table.meta["spans"]))
    return " ".join(_goal_sentences(answer, query))


def _of_spans(answer: ViewLineage, spans: Mapping[str, Span]) -> Iterator[str]:
    """Yield what all groups together have in each of several spans."""
    for measure in headline_measures(answer):
        parts = []
        for title, span in spans.items():
            value = value_over(answer.view, measure, DayRange(span.lo, span.hi))
            label = answer.view.calendar.shown_label(title)
            parts.append(f"{label} {format_value(value)}")
        yield f"{as_title(measure.name)}: {', '.join(parts)}."


def _goal_sentences(answer: ViewLineage, query: Recap) -> Iterator[str]:
    view = answer.view
    first, last, complete, labelling = spans_of(view, query.per)
    labels = [view.calendar.shown_label(str(label)) for label in labelling()]
    span = DayRange(view.seen.lo, view.seen.hi)
    measures = headline_measures(answer)
    if measures and (common := view.common_days(measures[0])) is not None:
        span = DayRange(max(span.first, common.lo), min(span.last, common.hi))
    whole = len(labels) == 1 and complete[0] and query.per != "day"
    when = f"in {labels[0]}" if whole else span.when
    for number, measure in enumerate(measures):
        total = value_over(view, measure, span)
        words = describe_value(answer, measure, span, total)
        yield f"{as_title(measure.name)}{'' if number else ' ' + when}: {words}."
        if number or total.kind in NO_NUMBERS:
            continue
        if len(labels) > 1:
            yield from _highest_period(view, measure, query.per, (first, last, complete), labels)
        yield from largest_group(answer, measure, span)
        if complete[-1]:
            continue
        why = uncovered(view, int(first[-1]), int(last[-1]))
        if len(labels) == 1 and why:
            yield f"{labels[-1]} is not complete: {why}."
        elif len(labels) > 1:
            yield f"The last, {labels[-1]}, is not complete{': ' if why else ''}{why}."


def _highest_period(
    view: View, measure: Measure, per: str, spans: tuple[Ints, Ints, Flags], labels: list[str]
) -> Iterator[str]:
    first, last, complete = spans
    whole = view.together() if view.groups.count > 1 else view
    values = whole.value(measure, np.zeros(len(first), np.int64), first, last)
    numbers = values.numbers()
    at = largest_of(numbers)
    if at is None:
        return
    level = per if per in LEVELS else "period"
    highest, equal = format_value(values, at), int((numbers == numbers[at]).sum())
    if equal == len(labels):
        yield f"Each of {count_noun(equal, level)} has the same: {highest}."
    elif equal > 1:
        yield (
            f"The highest is {highest}, in {equal:,} of {count_noun(len(labels), level)}, first in "
            f"{labels[at]}."
        )
    else:
        rest = "" if complete[at] else ", though it is not complete"
        times = count_noun(len(labels), level)
        yield f"The highest of {times} is {labels[at]}: {highest}{rest}."


def largest_group(answer: ViewLineage, measure: Measure, days: DayRange) -> Iterator[str]:
    """Name the largest group over some days, and its share where values add up."""
    view = answer.view
    count = view.groups.count
    if count < 2:
        return
    group = np.arange(count)
    same = np.zeros(count, np.int64)
    values = view.value(measure, group, same + days.first, same + days.last)
    if values.kind in NO_NUMBERS:
        return
    own_groups = np.ones(count, bool) if view.others is None else ~view.others
    numbers = np.where(own_groups, values.numbers(), np.nan)
    at = largest_of(numbers)
    if at is None:
        return
    names = (column.to_list()[0] for column in view.groups.columns(np.array([at])))
    name = ", ".join(BLANK if word is None else str(word) for word in names)
    with np.errstate(over="ignore"):  # of floats near their end, which have no share then
        whole = float(np.nansum(values.numbers()))
    share = ""
    adds_up = measure.additive_plane is not None and 0 < whole < np.inf
    if adds_up and np.nanmin(values.numbers()) >= 0:
        ratio = Column.of("", "float", [numbers[at] / whole], unit="share")
        share = f" ({format_value(ratio)})"
    noun = group_noun(answer)
    among = f" of {count:,}" if view.others is None else ""
    yield f"Largest {noun}{among}: {name}, {format_value(values, at)}{share}."


def _last_row(answer: ViewLineage, name: str) -> tuple[Value, int, DayRange] | None:
    """Return the value behind a column in the row with the last day, its place and its days."""
    if name not in answer.numbers or not len(answer.rows):
        return None
    value = value_of(answer.numbers[name])
    place = int(answer.rows[int(np.argmax(value.side.last[answer.rows]))])
    return value, place, DayRange(int(value.side.first[place]), int(value.side.last[place]))


def describe_accumulate(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of running totals."""
    query = answer.question
    assert isinstance(query, Accumulate)
    return " ".join(_accumulate_sentences(answer, query))


def _accumulate_sentences(answer: ViewLineage, query: Accumulate) -> Iterator[str]:
    for number, measure in enumerate(headline_measures(answer)):
        last_row = _last_row(answer, f"{measure.name}_to_date")
        if last_row is None:
            return
        _, _, days = last_row
        when, span, calendar = f" {days.when}", "", answer.view.calendar
        if query.within in calendar.levels and query.within != "day":
            index = calendar.index_of(np.array([days.last]), query.within)
            over = int(calendar.last_days(index, query.within)[0]) == days.last
            label = calendar.shown_label(str(calendar.labels(index, query.within)[0]))
            when = f" in {label}{'' if over else ' to date'}"
            span = f" ({days}, {count_noun(days.count, 'day')})"
        value = value_over(answer.view, measure, days)
        words = describe_value(answer, measure, days, value)
        yield f"{as_title(measure.name)}{'' if number else when}: {words}" + (
            "." if number else f"{span}."
        )
        if not number and value.kind not in NO_NUMBERS:
            yield from largest_group(answer, measure, days)


def describe_trail(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of rolling windows."""
    query = answer.question
    assert isinstance(query, Trail)
    return " ".join(_trail_sentences(table, answer, query))


def _trail_sentences(table: Result, answer: ViewLineage, query: Trail) -> Iterator[str]:
    for number, measure in enumerate(headline_measures(answer)):
        name = f"{measure.name}_trailing"
        last_row = _last_row(answer, name)
        if last_row is None:  # a weighted mean has no days of its own
            yield from _weighted_sentences(table, answer, query, name, as_title(measure.name))
            continue
        value, place, days = last_row
        end = DayRange(days.last, days.last)
        over = f" over the {query.amount} to {end}" if query.ahead is None else f" over {days}"
        if value.picked is not None:  # each group counts its own entries or active days
            yield from _of_one_group(table, answer, place, name, as_title(measure.name) + over)
            return
        words = describe_value(answer, measure, days, value_over(answer.view, measure, days))
        begins = "" if number or query.ahead else f" ({days}, {count_noun(days.count, 'day')})"
        yield f"{as_title(measure.name)}{'' if number else over}: {words}{begins}."
        if not number:
            yield from largest_group(answer, measure, days)
            if why := uncovered(answer.view, days.first, days.last):
                yield f"That window is not complete: {why}."


def _of_one_group(
    table: Result, answer: ViewLineage, place: int, name: str, begin: str
) -> Iterator[str]:
    """Yield the value of the one group, or the largest of several on the same day."""
    if name not in table or "date" not in table:
        return
    last = table.column("date").data
    rows = np.flatnonzero(last == last[np.flatnonzero(answer.rows == place)[0]])
    at = largest_of(table.column(name).take(rows).numbers())
    if at is not None:
        of = f", the largest: {group_named(answer, rows[at])}" if len(rows) > 1 else ""
        yield f"{begin}{of}: {format_value(table.column(name), rows[at])}."


def _weighted_sentences(
    table: Result, answer: ViewLineage, query: Trail, name: str, title: str
) -> Iterator[str]:
    if name in table and "date" in table:
        row = int(np.argmax(table.column("date").data))
        begin = f"{title}, the weighted mean over the {query.amount} to "
        begin += str(table.column("date").to_list()[row])
        yield from _of_one_group(table, answer, int(answer.rows[row]), name, begin)


def describe_card(table: Result, answer: ViewLineage) -> str:
    """Return the sentence of a card: the first measure to date in each period.

    Where it has periods of several calendars, these are of the book's own, or of the first.
    """
    if not {"period", "first", "last"} <= {*table.names}:
        return ""
    view, measure = answer.view, answer.view.facts.measures[0]
    periods = table.column("period").to_list()
    levels = table.column("level").to_list() if "level" in table else periods
    names = table.column("calendar").to_list() if "calendar" in table else [""] * len(periods)
    ends = zip(table.column("first").data, table.column("last").data, strict=True)
    own = view.calendar.name if view.calendar.name in names else next(iter(names), "")
    spans = {
        level: DayRange(*map(int, end))
        for level, name, end in zip(levels, names, ends, strict=True)
        if name == own
    }
    ratios = dict[str, str]()
    if f"{measure.name}_change_ratio" in table:
        column = table.column(f"{measure.name}_change_ratio")
        rows = [at for at, name in enumerate(names) if name == own and not column.blank[at]]
        ratios = {str(levels[at]): format_value(column, at) for at in rows}
    alone = ratios if view.groups.count == 1 else {}  # of groups each has its own
    parts = (
        f"{level} {format_value(value_over(view, measure, days))}"
        + (f" ({alone[level]})" if level in alone else "")
        for level, days in spans.items()
    )
    where = f" in {own}" if len({*names}) > 1 else ""
    when = f"to date as of {as_date(view.today)}{where}"
    words = f"{as_title(measure.name)} {when}: {', '.join(parts)}"
    words += f", on the same days {table.meta['back']} before." if alone else "."
    return f"{words} {sentence(view.data_age)}".rstrip()


_DESCRIBE: Mapping[str, Callable[[Result, ViewLineage], str]] = {
    "recap": describe_recap,
    "accumulate": describe_accumulate,
    "trail": describe_trail,
    "card": describe_card,
    "rhythm": describe_attribute,
    "spread": describe_spread,
    "histogram": describe_histogram,
}
