"""Expressions calculated for one transaction, in plain Python: numbers are fractions or floats.

This is the other way to every value, which traces hold the columns against.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Mapping
from fractions import Fraction
from typing import Any

from eptaro.core.calendars.levels import Names, month_number
from eptaro.core.expressions.kinds import FIRST_YEAR
from eptaro.core.expressions.tree import (
    BinaryOp,
    BoolOp,
    Call,
    Comparison,
    In,
    IsBlank,
    Name,
    Negate,
    Node,
    Not,
    Number,
    Text,
    Where,
)
from eptaro.errors import EptaroError

_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda left, right: left == right,
    "!=": lambda left, right: left != right,
    "<": lambda left, right: left < right,
    "<=": lambda left, right: left <= right,
    ">": lambda left, right: left > right,
    ">=": lambda left, right: left >= right,
}


def plain_value(node: Node, row: Mapping[str, Any]) -> Any:
    """Return the result of an expression in one row; None is blank, and what is not known.

    A row holds fractions, floats, texts, dates, times (`datetime`) and flags.

    >>> from eptaro.core.expressions.parser import parse
    >>> plain_value(parse("if(x > 2, x * 2)"), {"x": Fraction(7, 2)})
    Fraction(7, 1)
    """
    match node:
        case Number(value):
            return Fraction(value)
        case Text(value):
            return value
        case Name(name):
            return row[name]
        case Negate(part):
            value = plain_value(part, row)
            return None if value is None else -value
        case BinaryOp(how, left, right):
            return _calculate(how, plain_value(left, row), plain_value(right, row))
        case Comparison(how, left, right):
            return _compare(how, plain_value(left, row), plain_value(right, row))
        case In(value, choices):
            own = plain_value(value, row)
            results = [_compare("=", own, plain_value(choice, row)) for choice in choices]
            return True if True in results else None if None in results else False
        case BoolOp("and", left, right):
            sides = [plain_value(left, row), plain_value(right, row)]
            return False if False in sides else None if None in sides else True
        case BoolOp(_, left, right):
            sides = [plain_value(left, row), plain_value(right, row)]
            return True if True in sides else None if None in sides else False
        case Not(part):
            value = plain_value(part, row)
            return None if value is None else not value
        case IsBlank(part):
            return plain_value(part, row) is None
        case Where(part, condition):
            met = plain_value(condition, row) is True
            return (True if part is None else plain_value(part, row)) if met else None
        case Call("if", given):
            met = plain_value(given[0], row) is True
            if met or len(given) == 3:
                return plain_value(given[1 if met else 2], row)
            return None
        case Call(function, given):
            return _plain_result_of(function, [plain_value(part, row) for part in given], given)
        case _:
            raise EptaroError(f"{node!r} has no rule in core/expressions/interpreter.py")


def _as_number(value: Any) -> Any:
    return int(value) if isinstance(value, bool) else value


def _calculate(how: str, left: Any, right: Any) -> Any:
    if left is None or right is None:
        return None
    left, right = _as_number(left), _as_number(right)
    if how in "/%" and not right:
        return None
    if how == "/":
        return float(left) / float(right)
    if isinstance(left, float) or isinstance(right, float):
        left, right = float(left), float(right)
    match how:
        case "+":
            return left + right
        case "-":
            return left - right
        case "*":
            return left * right
        case _ if isinstance(left, float):
            return math.fmod(left, right)
        case _:
            remainder = abs(left) % abs(right)
            return remainder if left >= 0 else -remainder


def _compare(how: str, left: Any, right: Any) -> bool | None:
    if left is None or right is None:
        return None
    left, right = _day(left), _day(right)
    if isinstance(left, str) and isinstance(right, dt.date):
        left = dt.date.fromisoformat(left)
    if isinstance(right, str) and isinstance(left, dt.date):
        right = dt.date.fromisoformat(right)
    return _COMPARE[how](left, right)


def _day(value: Any) -> Any:
    return value.date() if isinstance(value, dt.datetime) else value


def _plain_result_of(function: str, arguments: list[Any], nodes: tuple[Node, ...]) -> Any:
    """Return a function's value; one of its values that is blank makes it blank."""
    if function == "coalesce":
        return next((value for value in arguments if value is not None), None)
    if any(value is None for value in arguments):
        return None
    first, *more = arguments
    match function:
        case "abs":
            return abs(first)
        case "round":
            return _round_half_away(first, int(more[0]) if more else 0)
        case "floor" | "ceil":
            rounded = (math.floor if function == "floor" else math.ceil)(first)
            return float(rounded) if isinstance(first, float) else Fraction(rounded)
        case "least" | "greatest":
            return (min if function == "least" else max)(arguments)
        case "lower" | "upper":
            return first.lower() if function == "lower" else first.upper()
        case "trim":
            return first.strip()
        case "length":
            return Fraction(len(first))
        case "contains":
            return more[0] in first
        case "starts" | "ends":
            return (first.startswith if function == "starts" else first.endswith)(more[0])
        case "date":
            return _date(arguments)
        case "week":
            return _week(arguments)
        case "shift":
            return _shift(_day(first), more[0])
        case "days":
            return Fraction((_day(first) - _day(more[0])).days)
        case "weekday":
            return Names().weekdays[first.weekday()]
        case "year" | "month" | "day":
            return Fraction(getattr(first, function))
        case "hour":
            # A day whose time is not known has no hour.
            return Fraction(first.hour) if isinstance(first, dt.datetime) else None
        case "band":
            return _band(first, more, nodes)
        case _:
            raise EptaroError(f"{function} has no rule in core/expressions/plain.py")


def _round_half_away(value: Any, places: int) -> Any:
    """Return a number with so many decimals, halves away from zero."""
    if isinstance(value, float):
        units = math.floor(abs(value) * 10.0**places + 0.5)
        return math.copysign(units / 10.0**places, value)
    unit = Fraction(10) ** places
    rounded = Fraction(math.floor(abs(value) * unit + Fraction(1, 2))) / unit
    return rounded if value >= 0 else -rounded


def _shift(day: dt.date, days: Any) -> dt.date | None:
    try:
        return None if days % 1 else day + dt.timedelta(int(days))
    except (ValueError, OverflowError):
        return None


def _date(arguments: list[Any]) -> dt.date | None:
    year, month, day = arguments
    if isinstance(month, str):
        month = month_number(month)
    try:
        if month is None or any(part % 1 for part in (year, month, day)):
            return None
        return dt.date(int(year), int(month), int(day)) if year >= FIRST_YEAR else None
    except (ValueError, OverflowError):
        return None


def _week(arguments: list[Any]) -> dt.date | None:
    year, number = arguments
    try:
        if year % 1 or number % 1 or year < FIRST_YEAR:
            return None
        return dt.date.fromisocalendar(int(year), int(number), 1)
    except (ValueError, OverflowError):
        return None


def _band(value: Any, edges: list[Any], nodes: tuple[Node, ...]) -> str:
    edge_texts = [f"{node.value:f}" for node in nodes[1:] if isinstance(node, Number)]
    below = sum(edge <= value for edge in edges)
    if not below:
        return f"under {edge_texts[0]}"
    return (
        f"{edge_texts[below - 1]} and over"
        if below == len(edge_texts)
        else " to ".join(edge_texts[below - 1 : below + 1])
    )
