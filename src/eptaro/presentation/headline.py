"""`headline`: one plain sentence with the answer of the question that a table was asked."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from eptaro.core.dimension.recurring import RECURRING
from eptaro.core.query.lineage import InParts, ViewLineage
from eptaro.core.results.display import visible
from eptaro.core.results.result import Result
from eptaro.presentation.words import group_named

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
    return visible(_said(table, measure))


def footer(table: Result) -> str:
    """Return the line that states calendar, coverage and as-of, as far as known."""
    words = {"calendar": "", "coverage": "coverage ", "as_of": "as of "}
    words |= {"dated_by": "dated by the ", "rejected": "left out "}
    words |= {"where": "where ", "data_age": "", "undecided": "", "by_input_order": ""}
    parts = [f"{word}{table.meta[key]}" for key, word in words.items() if table.meta.get(key)]
    return visible(" · ".join(parts))


def _said(table: Result, measure: str | None) -> str:
    answer = table.answer
    if answer is None:
        return str(table.meta.get("headline", ""))
    if not len(table):
        return ""
    if isinstance(answer, InParts):
        return " ".join(_in_parts(table, answer))
    if not isinstance(answer, ViewLineage) or len(answer.rows) < len(answer.group):
        return ""  # it would describe rows that are not in the table
    return _told(table, answer if measure is None else _about(answer, measure))


def _about(answer: ViewLineage, measure: str) -> ViewLineage:
    """Return an answer as if one of its measures were the only one."""
    facts = answer.view.facts
    own = tuple(one for one in facts.measures if one.name == measure)
    alone = replace(facts, measures=own)
    return replace(answer, view=replace(answer.view, facts=alone))


def _in_parts(table: Result, answer: InParts) -> Iterator[str]:
    """Yield a sentence for each of the calendars that groups keep."""
    for number, part in enumerate(answer.parts[:_MOST_PARTS]):
        rows = np.flatnonzero(answer.part == number)
        if len(rows):
            own = part.take(answer.rows[rows])
            words = _told(Result(table.take(rows).columns, table.meta, own), own)
            alone = own.view.groups.count == 1
            name = group_named(own, 0) if alone else own.view.calendar.name
            sentence = words.partition(". ")[0].rstrip(".")
            yield f"{name}: {sentence}." if sentence else ""


def _told(table: Result, answer: ViewLineage) -> str:
    """Return the sentences of one verb, whose module alone is imported."""
    query = answer.question
    if getattr(query, "every", None) == "entry":
        return f"One row for each of {len(table):,} transactions."
    match query.verb:
        case "recap" if getattr(query, "per", None) in RECURRING:
            from eptaro.presentation.spread_out import by_attribute as teller
        case "recap":
            from eptaro.presentation.running import describe_recap as teller
        case "compare":
            from eptaro.presentation.compared import describe_comparison as teller
        case "accumulate":
            from eptaro.presentation.running import describe_accumulate as teller
        case "trail":
            from eptaro.presentation.running import describe_trail as teller
        case "card":
            from eptaro.presentation.running import describe_card as teller
        case "rhythm":
            from eptaro.presentation.spread_out import by_attribute as teller
        case "spread":
            from eptaro.presentation.spread_out import spread_told as teller
        case "histogram":
            from eptaro.presentation.spread_out import histogram_told as teller
        case _:
            return ""
    return teller(table, answer)
