"""The headline of a recap: the total of all its days, the highest period, the largest group."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.levels import LEVELS
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.answer import Answered
from eptaro.core.questions.view import View
from eptaro.core.tables.column import NO_NUMBERS, Column
from eptaro.core.tables.display import BLANK
from eptaro.core.tables.result import Result
from eptaro.core.verbs.queries import Recap
from eptaro.core.verbs.recap.periods import spans_of
from eptaro.presentation.words import (
    Days,
    counted,
    group_noun,
    largest_of,
    measures_told,
    said,
    titled,
    uncovered,
    value_over,
)


def recapped(table: Result, answer: Answered) -> str:
    """Return the sentences of a recap."""
    asked = answer.question
    assert isinstance(asked, Recap)
    return " ".join(_sentences(answer, asked))


def _sentences(answer: Answered, asked: Recap) -> Iterator[str]:
    view = answer.view
    first, last, complete, labelling = spans_of(view, asked.per)
    labels = [str(label) for label in labelling()]
    seen = Days(view.seen.lo, view.seen.hi)
    when = f"in {labels[0]}" if len(labels) == 1 and complete[0] else f"from {seen}"
    for number, measure in enumerate(measures_told(answer)):
        total = value_over(view, measure, seen)
        yield f"{titled(measure.name)}{'' if number else ' ' + when}: {said(total)}."
        if number or total.kind in NO_NUMBERS:
            continue
        if len(labels) > 1:
            yield from _highest(view, measure, asked.per, (first, last, complete), labels)
        yield from largest_group(answer, measure, seen)
        if complete[-1]:
            continue
        why = uncovered(view, int(first[-1]), int(last[-1]))
        if len(labels) == 1 and why:
            yield f"{labels[-1]} is not complete: {why}."
        elif len(labels) > 1:
            yield f"The last, {labels[-1]}, is not complete{': ' if why else ''}{why}."


def _highest(
    view: View, measure: Measure, per: str, spans: tuple[Ints, Ints, Flags], labels: list[str]
) -> Iterator[str]:
    first, last, complete = spans
    whole = view.together() if view.groups.count > 1 else view
    values = whole.value(measure, np.zeros(len(first), np.int64), first, last)
    at = largest_of(values.numbers())
    if at is None:
        return
    level = per if per in LEVELS else "period"
    rest = "" if complete[at] else ", though it is not complete"
    yield f"The highest of {counted(len(labels), level)} is {labels[at]}: {said(values, at)}{rest}."


def largest_group(answer: Answered, measure: Measure, days: Days) -> Iterator[str]:
    """Tell which group has most over some days, and what share that is where it adds up."""
    view = answer.view
    count = view.groups.count
    if count < 2:
        return
    group = np.arange(count)
    same = np.zeros(count, np.int64)
    values = view.value(measure, group, same + days.first, same + days.last)
    if values.kind in NO_NUMBERS:
        return
    picked = np.ones(count, bool) if view.others is None else ~view.others
    numbers = np.where(picked, values.numbers(), np.nan)
    at = largest_of(numbers)
    if at is None:
        return
    names = (column.to_list()[0] for column in view.groups.columns(np.array([at])))
    name = ", ".join(BLANK if word is None else str(word) for word in names)
    whole = np.nansum(values.numbers())
    share = ""
    if measure.additive_plane is not None and whole > 0 and np.nanmin(values.numbers()) >= 0:
        ratio = Column.of("", "float", [numbers[at] / whole], unit="share")
        share = f" ({said(ratio)})"
    noun = group_noun(answer)
    largest = f"of {counted(count, noun)}" if view.others is None else noun
    yield f"The largest {largest} is {name}: {said(values, at)}{share}."
