"""Columns that a value is only picked from: numbers, dates or texts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
import pyarrow as pa

from eptaro.core.expressions.formula import Formula
from eptaro.core.expressions.tree import Name, Where
from eptaro.core.folds.planes import Plane
from eptaro.core.tables.column import Column
from eptaro.errors import InputError
from eptaro.inputs.columns.codes import read_codes
from eptaro.inputs.dates import read_dates
from eptaro.rules.dates import DateRules

_PICKS = ("min", "max", "first", "last")


def only_picked(planes: Iterable[Plane]) -> list[str]:
    """Return the columns of which values are picked, and counted, but never reckoned with."""
    planes = [plane for plane in planes if plane.column]
    reckoned = {p.column for p in planes if p.what not in (*_PICKS, "filled", "codes")}
    return sorted({p.column for p in planes if p.what in _PICKS} - reckoned)


def name_picked(column: str, formula: Formula | None) -> str | None:
    """Return the column of the input that values are picked from; None where they are worked out,
    and are numbers.
    """
    if formula is None:
        return column
    node = formula.node.value if isinstance(formula.node, Where) else formula.node
    return node.name if isinstance(node, Name) else None


def read_said(array: pa.ChunkedArray, name: str, source: str, rules: DateRules) -> Column:
    """Return a column of dates, where all that is filled can be read as such, or else of texts,
    each a place among those that occur, in order of letters.

    Raises `InputError` where some are dates and some are not.
    """
    kind = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if pa.types.is_null(kind):
        return Column.of(name, "integer", np.zeros(len(array)), np.zeros(len(array), bool))
    written = not (pa.types.is_date(kind) or pa.types.is_timestamp(kind))
    if not written or array.null_count != len(array):
        read = read_dates(array, replace(rules, grain="day"), name)  # months are texts here
        bad = np.zeros(len(array), bool) if read.bad is None else read.bad
        blank = bad if read.reasons is None else read.reasons == "blank"
        unread = np.flatnonzero(bad & ~blank)
        if not len(unread):
            return Column.of(name, "date", read.days, ~bad)
        if not bad.all():
            row = int(unread[0])
            raise InputError(
                f"{source}: {array[row].as_py()!r} of {name!r} is not a date, and others are"
            )
    coded = read_codes(array, name)
    return in_order(
        Column.text(name, np.array([*coded.choices.to_list(), None], object)[:-1], coded.codes)
    )


def in_order(column: Column) -> Column:
    """Return texts as places among those that occur, in order of letters."""
    assert column.choices is not None
    words = np.asarray(column.choices, object)
    every, places = np.unique(words, return_inverse=True)
    target = np.append(places.ravel(), -1)
    return Column.text(column.name, every, target[column.data])
