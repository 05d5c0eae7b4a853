"""Pruning: whether any row can meet a condition, given only the range of each column."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Mapping
from decimal import Decimal
from fractions import Fraction
from typing import Any, NamedTuple, TypeAlias

from eptaro.core.expressions.tree import (
    BoolOp,
    Comparison,
    In,
    IsBlank,
    Name,
    Negate,
    Node,
    Not,
    Number,
    Text,
)

Bound: TypeAlias = Fraction | float | str | dt.date
_TURNED = {"=": "=", "!=": "!=", "<": ">", "<=": ">=", ">": "<", ">=": "<="}


class ColumnStats(NamedTuple):
    """The least and the largest value of a column, and whether some, or all, are blank."""

    least: Bound | None
    most: Bound | None
    some_blank: bool
    all_blank: bool


def may_match(node: Node, stats: Mapping[str, ColumnStats]) -> bool:
    """Return False where no row of these extents meets a condition; True also where that cannot
    be reported.

    >>> from eptaro.core.expressions.parser import parse
    >>> fares = {"fare": ColumnStats(Fraction(5), Fraction(9), False, False)}
    >>> [may_match(parse(text), fares) for text in ("fare > 9", "fare > 8.5", "abs(fare) > 9")]
    [False, True, True]
    """
    match node:
        case BoolOp("and", left, right):
            return may_match(left, stats) and may_match(right, stats)
        case BoolOp(_, left, right):
            return may_match(left, stats) or may_match(right, stats)
        case Comparison(how, Name(name), value):
            return _compares(how, stats.get(name), value)
        case Comparison(how, value, Name(name)):
            return _compares(_TURNED[how], stats.get(name), value)
        case In(Name(name), choices):
            return any(_compares("=", stats.get(name), choice) for choice in choices)
        case IsBlank(Name(name)):
            return name not in stats or stats[name].some_blank
        case Not(IsBlank(Name(name))):
            return name not in stats or not stats[name].all_blank
        case _:
            return True


def _compares(how: str, column: ColumnStats | None, value: Node) -> bool:
    """Return whether some value between the least and the largest may compare so."""
    if column is None:
        return True
    if column.all_blank:
        return False  # what is blank compares with nothing
    bound = _literal_value(value)
    if bound is None or column.least is None or column.most is None:
        return True
    least, most = column.least, column.most
    if isinstance(least, dt.date) and isinstance(bound, str):
        try:
            bound = dt.date.fromisoformat(bound)
        except ValueError:
            return True  # it is refused where it is calculated
    if isinstance(least, float) and isinstance(bound, Fraction):
        bound = float(bound)  # as it is compared with floats
    if type(bound) is not type(least):
        return True
    one: Any = least
    two: Any = most
    match how:
        case "=":
            return bool(one <= bound <= two)
        case "<":
            return bool(one < bound)
        case "<=":
            return bool(one <= bound)
        case ">":
            return bool(two > bound)
        case ">=":
            return bool(two >= bound)
        case _:
            return not one == two == bound


def _literal_value(node: Node) -> Bound | None:
    """Return a value that is written out, or None."""
    match node:
        case Number(value):
            return Fraction(value)
        case Negate(Number(value)):
            return -Fraction(value)
        case Text(value):
            return value
        case _:
            return None


def bound_of(value: object) -> Bound | None:
    """Return a value of a column's statistics as it is compared; None where it cannot be."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | Decimal):
        return Fraction(value)
    if isinstance(value, float):
        return None if math.isnan(value) else value
    if isinstance(value, dt.datetime):
        return value.date() if value.tzinfo is None else None
    if isinstance(value, str | dt.date):
        return value
    return None
