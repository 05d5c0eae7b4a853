"""`rhythm`: how a measure spreads over hours, weekdays, days of the month, months, quarters."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.dimension.recurring import full_name
from eptaro.core.questions.answer import Answered
from eptaro.core.questions.by_attribute import (
    Crossed,
    answer_by,
    attribute_of,
    column_name,
    days_of,
    rows_by,
)
from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.questions.view import Facts
from eptaro.core.tables.answer import Question
from eptaro.core.tables.column import Column
from eptaro.core.tables.face import Face
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError


@dataclass(frozen=True)
class Rhythm(Question):
    """What spread was asked for: over the values of `per`, or of `per` and `across` crossed."""

    verb = "rhythm"
    per: str
    across: str | None = None
    wide: bool = False


def rhythm(
    self: Facts,
    per: str,
    across: str | None = None,
    *,
    wide: bool = False,
    by: By = None,
    only: Only = None,
    as_of: AsOf = None,
) -> Table:
    """Return how measures spread over the values of an attribute, or of two crossed.

    `per` and `across` are `hour`, `weekday`, `day of month`, `week of month` (days 1 to 7
    are the first), `month`, `quarter`, `week` (of the calendar's year), `workday`,
    `holiday` or `kind of day` (workday, weekend, holiday). Rows stand in natural order,
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
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.

    Returns
    -------
    Table
        One row per group and value, or pair of values, that days have.

    Raises
    ------
    QuestionError
        For an unknown attribute, or hours where dates have no time.

    Examples
    --------
    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-08-18", "2025-08-25"], "fare": [7, 5]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> row = next(book.rhythm("weekday").rows())
    >>> row["weekday"], row["days"], row["revenue"], row["revenue_per_day"]
    ('Monday', 2, 12, 6.0)
    """
    asked = Rhythm(full_name(per), None if across is None else full_name(across), wide)
    if asked.across == asked.per:
        raise QuestionError(f"across={across!r} is what per={per!r} is already")
    view = self.view(by, only, as_of)
    names = [asked.per, *([asked.across] if asked.across else [])]
    crossed = Crossed.of([attribute_of(view, name) for name in names])
    group, place, head, values = rows_by(view, crossed)
    beside = []
    days = days_of(view, crossed, group, place)
    for measure, value in zip(self.measures, values, strict=True):
        beside.append(value)
        if measure.additive_plane is not None:
            text = f"{measure.formula} per day that has the row's values"
            known = ~value.blank & (days > 0)
            per_day = Column.of(
                f"{measure.name}_per_day",
                "float",
                np.where(known, value.numbers(), 0.0) / np.maximum(days, 1),
                known,
                format=value.format,
                description=text,
                face=Face("per day", of=measure.name),
            )
            beside.append(per_day)
    meta = view.meta("rhythm") | {"per": asked.per, "across": asked.across}
    if not wide:
        answer = answer_by(view, crossed, asked, group, place)
        return Table([*head, *beside], meta, answer)
    if asked.across is None:
        raise QuestionError("wide sets the values of across side by side; name one")
    shown = beside[1] if self.measures[0].additive_plane is not None else beside[0]
    columns, rows = _across(crossed, group, place, head, shown)
    return Table(columns, meta, Answered(asked, view, group, {}, rows))


def _across(
    crossed: Crossed, group: Ints, place: Ints, head: list[Column], shown: Column
) -> tuple[list[Column], Ints]:
    """Return the values of the second attribute side by side, and the rows that are kept."""
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
        found = key[at] == keys + number
        if found.any():
            text = f"{shown.description}, {outer.name} {word}"
            columns.append(shown.take(at).blanked(found).named(word, text, Face(word)))
    return columns, first
