"""Measures worked out one transaction at a time, in plain Python.

This is the other way to every number: no fold, no cells, no prefix sums, no NumPy
arithmetic; exact fractions for what adds up. `trace` holds results against it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any

from eptaro.core.measures import Measure, Term

Values = Sequence[Any]  # in date, time and input order, None where blank


def plain_value(measure: Measure, columns: Mapping[str, Values], rows: int) -> Any:
    """Return a measure of some transactions: their columns' values in order.

    >>> plain_value(Measure.parse("s=sum(x)"), {"x": [1, None, 2]}, 3)
    Fraction(3, 1)
    """
    found = [_term(term, columns, rows) for term in measure.terms]
    if len(found) == 1:
        return found[0]
    over, under = found
    return None if over is None or not under else Fraction(over) / Fraction(under)


def _term(term: Term, columns: Mapping[str, Values], rows: int) -> Any:
    if term.how == "count" and not term.column:
        return rows
    filled = [value for value in columns[term.column] if value is not None]
    if term.how == "count":
        return len(filled)
    if term.how == "distinct":
        return len(set(filled))
    exact = [Fraction(value) for value in filled]
    if term.how == "sum":
        return sum(exact, Fraction(0))
    if not exact or (term.how in ("std", "var") and len(exact) < 2):
        return None
    match term.how:
        case "first" | "last":
            return exact[0 if term.how == "first" else -1]
        case "min":
            return min(exact)
        case "max":
            return max(exact)
        case "mean":
            return sum(exact, Fraction(0)) / len(exact)
        case "std" | "var":
            mean = sum(exact, Fraction(0)) / len(exact)
            variance = sum(((x - mean) ** 2 for x in exact), Fraction(0)) / (len(exact) - 1)
            return math.sqrt(variance) if term.how == "std" else variance
    return _quantile(sorted(exact), 0.5 if term.how == "median" else term.share)


def _quantile(ordered: list[Fraction], share: float) -> Fraction:
    place = Fraction(share) * (len(ordered) - 1)
    below = int(place)
    above = min(below + 1, len(ordered) - 1)
    return ordered[below] + (ordered[above] - ordered[below]) * (place - below)


def agrees(result: Any, plain: Any, *, exact: bool) -> bool:
    """Return whether a result equals its plain value: to the last digit where it is exact,
    to twelve digits where it is a float.
    """
    if result is None or plain is None:
        return result is None and plain is None
    if exact and not isinstance(result, float):
        return Fraction(result) == Fraction(plain)
    return math.isclose(float(result), float(plain), rel_tol=1e-9, abs_tol=1e-9)


def shown(value: Any, places: int = 0) -> str:
    """Return a plain value as people read it, with at least so many decimals.

    >>> shown(Fraction(707, 2), 2), shown(Fraction(1, 8), 2)
    ('353.50', '0.125')
    """
    if value is None:
        return "blank"
    if isinstance(value, Fraction):
        digits = Decimal(value.numerator) / Decimal(value.denominator)
        exponent = digits.as_tuple().exponent
        more = -exponent if isinstance(exponent, int) else 0
        return f"{digits:,.{max(places, more)}f}"
    return f"{value:,}"
