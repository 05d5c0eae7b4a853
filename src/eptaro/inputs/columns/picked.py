"""Columns that a value is only picked from: numbers, dates or texts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np
import pyarrow as pa

from eptaro.core.expressions.formula import Formula
from eptaro.core.expressions.kinds import FUNCTIONS, Kind, sure_kind
from eptaro.core.expressions.tree import Call, Name, Node, Text, Where
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


def kind_picked(node: Node, kinds: Mapping[str, Kind]) -> Kind | None:
    """Return what an expression makes, as far as that shows; `kinds` names what columns hold.

    >>> from eptaro.core.expressions.parser import parse
    >>> kind_picked(parse("if(x > 1, 'few', 'many')"), {}), kind_picked(parse("if(x > 1, y)"), {})
    (<Kind.TEXT: 'text'>, None)
    """
    match node:
        case Name(name):
            return kinds.get(name)
        case Text():
            return Kind.TEXT
        case Where(value):
            return None if value is None else kind_picked(value, kinds)
        case Call(function, given) if FUNCTIONS[function].gives is None:
            values = given[1:] if function == "if" else given
            # A text that is written out beside a date is one.
            parts = sorted(values, key=lambda part: isinstance(part, Text))
            return next((k for part in parts if (k := kind_picked(part, kinds))), None)
        case _:
            return sure_kind(node)


def name_picked(formula: Formula) -> str | None:
    """Return the column of the input that values are picked from; None if they are worked out."""
    node = formula.node.value if isinstance(formula.node, Where) else formula.node
    return node.name if isinstance(node, Name) else None


def read_said(
    array: pa.ChunkedArray, name: str, source: str, rules: DateRules, kind: Kind | None
) -> Column:
    """Return a column that holds dates, or else texts, each a place among those that occur, in
    order of letters.

    Raises `InputError` for a text in a column of dates.
    """
    held = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if pa.types.is_null(held):
        return Column.of(name, "integer", np.zeros(len(array)), np.zeros(len(array), bool))
    if kind is Kind.DATE:
        read = read_dates(array, replace(rules, grain="day"), name)  # months are texts here
        bad = np.zeros(len(array), bool) if read.bad is None else read.bad
        blank = bad if read.reasons is None else read.reasons == "blank"
        unread = np.flatnonzero(bad & ~blank)
        if len(unread):
            row = int(unread[0])
            raise InputError(
                f"{source}: {array[row].as_py()!r} of {name!r} is not a date, and others are"
            )
        return Column.of(name, "date", read.days, ~bad)
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
