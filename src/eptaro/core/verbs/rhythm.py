"""`rhythm`: how a measure spreads over hours, weekdays, days of the month, months, quarters."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.dimension.recurring import full_name
from eptaro.core.measures.calculations import ratio
from eptaro.core.query.by_attribute import (
    AttributeProduct,
    answer_by,
    attribute_of,
    column_name,
    days_of_measure,
    rows_by,
)
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.query.view import BookData
from eptaro.core.results.column import Column
from eptaro.core.results.format import DisplayHint
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Rhythm
from eptaro.errors import QuestionError, show_option


def rhythm(facts: BookData, query: Rhythm) -> Result:
    """Return the distribution of measures over the values of an attribute, or of two crossed."""
    across = None if query.across is None else full_name(query.across)
    request = replace(query, per=full_name(query.per), across=across)
    if request.across == request.per:
        raise QuestionError(
            f"{show_option('across', query.across)} is what "
            f"{show_option('per', query.per)} is already"
        )
    view = facts.view(query.by, query.only, query.as_of)
    names = [request.per, *([request.across] if request.across else [])]
    crossed = AttributeProduct.of([attribute_of(view, name) for name in names])
    group, place, head, values = rows_by(view, crossed)
    beside = []
    for measure, value in zip(facts.measures, values, strict=True):
        beside.append(value)
        if measure.additive_plane is not None:
            text = f"{measure.formula} per day that has the row's values"
            days = days_of_measure(view, measure, crossed, group, place)
            per_day = ratio(value, Column.of("", "integer", days)).shown_as(value.format)
            face = DisplayHint("per day", of=measure.name)
            beside.append(per_day.named(f"{measure.name}_per_day", text, face))
    meta = view.meta("rhythm") | {"per": request.per, "across": request.across}
    if not request.wide:
        answer = answer_by(view, crossed, request, group, place)
        return Result([*head, *beside], meta, answer)
    if request.across is None:
        raise QuestionError("wide sets the values of across side by side; name one")
    value_columns = beside[1] if facts.measures[0].additive_plane is not None else beside[0]
    columns, rows = _cross_tabulate(crossed, group, place, head, value_columns)
    return Result(columns, meta, ViewLineage(request, view, group, {}, rows))


def _cross_tabulate(
    crossed: AttributeProduct, group: Ints, place: Ints, head: list[Column], totals: Column
) -> tuple[list[Column], Ints]:
    """Return the values of the second attribute side by side, and the rows that are kept.

    `group` and `place` are `(n_rows,)`.
    """
    outer = crossed.attributes[1]
    values = [] if outer.choices is None else outer.choices.tolist()
    count = len(values)
    first = np.flatnonzero(place % count == place[0] % count)
    columns = [
        column.take(first)
        for column in head
        if column.name not in ("days", column_name(outer.name))
    ]
    key, keys = group * crossed.size + place, (group * crossed.size + place - place % count)[first]
    for number, word in enumerate(values):
        at = np.minimum(np.searchsorted(key, keys + number), len(key) - 1)
        first_cells = key[at] == keys + number
        if first_cells.any():
            text = f"{totals.description}, {outer.name} {word}"
            columns.append(
                totals.take(at).blanked(first_cells).named(word, text, DisplayHint(word))
            )
    return columns, first
