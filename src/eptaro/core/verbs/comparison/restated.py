"""`restated`: what has changed in periods that were already reported."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.query.query import ADJUSTMENT, NO_ADJUSTMENT, group_names, looked_at
from eptaro.core.results.column import Column
from eptaro.core.results.format import DisplayHint, format_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.book_set import SetStore
from eptaro.core.verbs.queries import Recap, Restated
from eptaro.core.verbs.store import Store
from eptaro.errors import QuestionError, count_noun

_NOW, _BEFORE = "now", "before"


def restated(now: Store, before: Store, query: Restated) -> Result:
    """Return the periods and groups whose values differ between two keepings of a book, over the
    days that both cover up to the last day of the earlier one.

    Columns: the groups, `period`, `first`, `last`, then for each measure `NAME`, `NAME_before` and
    `NAME_change`. Raises `QuestionError` where the two measure different things.
    """
    about = now.about
    earlier = before.on_calendar(about.calendar, about.workdays)
    pair = SetStore({_NOW: now, _BEFORE: earlier}, (), about.calendar, about.workdays)
    measures = _measures(now, earlier, query)
    texts = [
        text
        for m in measures
        for text in (
            f"{_NOW}.{m.name}",
            f"{_BEFORE}.{m.name}",
            f"{m.name}_change={_quote_terms(_NOW, m)} - {_quote_terms(_BEFORE, m)}",
        )
    ]
    formats = about.folded.formats
    pair = replace(
        pair.measuring(texts),
        formats={
            name: formats[m.name].of_changes if name.endswith("_change") else formats[m.name]
            for m in measures
            if m.name in formats
            for name in (f"{_NOW}.{m.name}", f"{_BEFORE}.{m.name}", f"{m.name}_change")
        },
    )
    ends = about.coverage, earlier.about.coverage
    if max(span.lo for span in ends) > min(span.hi for span in ends):
        raise QuestionError(f"the two cover no day in common: now {ends[0]}, before {ends[1]}")
    last = min(span.hi for span in ends)
    if query.as_of is not None:
        last, _ = looked_at(query.as_of, Span.of(max(span.lo for span in ends), last), "day")
    days = Span.of(max(span.lo for span in ends), min(last, *(span.hi for span in ends)))
    recap = Recap(query.per, by=query.by, only=days, as_of=days.last)
    adjusted = [ADJUSTMENT in store.about.groups.names for store in (now, before)]
    if any(adjusted) and query.per != "year" and ADJUSTMENT not in group_names(query.by):
        if not all(adjusted):
            raise QuestionError(
                "one of the two books has adjustment periods, and the other has not"
            )
        recap = replace(recap, only=[days, {ADJUSTMENT: [NO_ADJUSTMENT]}])
    result = _changed_rows(pair.ask(recap), measures, query, days)
    if recap.only is not days:
        result.meta["adjustments"] = "postings to adjustment periods"
    return result


def _measures(now: Store, before: Store, query: Restated) -> list[Measure]:
    """Return the measures that are compared: those of the question, or all that both have."""
    if query.measures is not None:
        now, before = now.measuring(query.measures), before.measuring(query.measures)
    before_by_name = {measure.name: measure for measure in before.about.measures}
    measures = [m for m in now.about.measures if before_by_name.get(m.name) == m]
    if not measures:
        formulas = ", ".join(f"{m.name} = {m.formula}" for m in now.about.measures)
        raise QuestionError(f"the earlier book has none of the measures of this one: {formulas}")
    view = now.view()
    numbers = [measure for measure in measures if not view.picks_texts(measure)]
    if not numbers:
        raise QuestionError("only numbers can be compared, and no measure is one")
    return numbers


def _quote_terms(table: str, measure: Measure) -> str:
    return '"' + f"{table}.{measure.name}".replace('"', '""') + '"'


def _changed_rows(table: Result, measures: list[Measure], query: Restated, days: Span) -> Result:
    """Return the rows of which a measure has changed, under the names that it has in the book."""
    answer = table.answer
    assert isinstance(answer, ViewLineage)
    names = dict[str, tuple[str, str | None]]()
    differs = np.zeros(len(table), bool)
    for measure in measures:
        own = f"{_NOW}.{measure.name}", f"{_BEFORE}.{measure.name}"
        names |= {
            own[0]: (measure.name, None),
            own[1]: (f"{measure.name}_before", "before"),
            f"{measure.name}_change": (f"{measure.name}_change", "change"),
        }
        one, two = (table.column(name) for name in own)
        gone = one.blank != two.blank
        moved = np.nan_to_num(table.column(f"{measure.name}_change").numbers()) != 0
        differs |= gone | moved
    columns = []
    for name in table.names:
        column = table.column(name)
        if name in names:
            title, word = names[name]
            of = title.rpartition("_")[0]
            face = None if word is None else DisplayHint(word, of=of, drawn=word == "change")
            column = column.named(title, column.description, face)
        if name not in ("days", "complete"):
            columns.append(column)
    numbers = {names[name][0]: number for name, number in answer.numbers.items()}
    lineage = replace(answer, asked=query, numbers=numbers)
    meta = table.meta | {"verb": query.verb, "per": query.per}
    meta.pop("tie_out", None)
    places = np.flatnonzero(differs)
    result = Result(columns, meta, lineage).take(places)
    periods = {str(label) for label in table.column("period").to_list()}
    sentence = _sentence(result, measures[0], query, days, len(periods))
    return Result(result.columns, result.meta | {"headline": sentence}, result.answer)


def _sentence(changes: Result, measure: Measure, query: Restated, days: Span, periods: int) -> str:
    """Return how many periods have changed, and where most."""
    changed = {str(label) for label in changes.column("period").to_list()}
    of = f"of {count_noun(periods, query.per)} up to {days.last}"
    if not changed:
        return f"Nothing has changed in any {of}."
    sentence = f"{len(changed):,} {of} {'has' if len(changed) == 1 else 'have'} changed."
    column: Column = changes.column(f"{measure.name}_change")
    sizes = np.abs(np.nan_to_num(column.numbers()))
    if not sizes.any():
        return sentence
    at = int(sizes.argmax())
    by = changes.answer.by if changes.answer is not None else ()
    row = changes.take(np.array([at]))
    where = ", ".join(
        text for name in (*by, "period") if (text := format_column(row.column(name))[0])
    )
    amount = format_column(row.column(column.name))[0]
    sign = "" if amount.startswith("-") else "+"
    return f"{sentence} The largest change of {measure.name}: {sign}{amount}, {where}."
