"""Measures calculated one transaction at a time, in plain Python.

This is the other way to every number: no fold, no cells, no prefix sums, no NumPy
arithmetic. Whole numbers and decimals are whole units, added up exactly; floats are added
up with the correctly rounded sum of the standard library. `trace` holds results against it.
"""

from __future__ import annotations

import datetime as dt
import math
import sys
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from decimal import Decimal
from fractions import Fraction
from typing import Any

from eptaro.core.expressions.interpreter import plain_value as evaluate_plain
from eptaro.core.expressions.tree import Node
from eptaro.core.measures.term import Arithmetic, Term
from eptaro.errors import EptaroError
from eptaro.record import Record, record

Units = Callable[[str], Sequence[tuple[int, int]]]  # grain -> first and last day of each unit
# Of a balance, and the first and last day of a span: what each account has.
Carried = Callable[[Term, int, int], "PlainValues"]


@record
class PlainValues(Record):
    """One column's values, None where blank; whole numbers count units of 10**-scale."""

    items: Sequence[Any]
    scale: int = 0

    def filled_values(self) -> list[Any]:
        """Return the values that are there."""
        return [item for item in self.items if item is not None]


@record
class Rows(Record):
    """Transactions in date, time and input order: their day ordinals and columns, and where
    several groups are looked at together, the moment and the group of each.
    """

    days: Sequence[int]
    columns: Mapping[str, PlainValues] = field(default_factory=dict)
    moments: Sequence[Any] = ()
    owners: Sequence[Any] = ()

    def between(self, first: int, last: int) -> Rows:
        """Return those of some days."""
        cut = slice(bisect_left(self.days, first), bisect_right(self.days, last))
        columns = {n: PlainValues(v.items[cut], v.scale) for n, v in self.columns.items()}
        return Rows(self.days[cut], columns, self.moments[cut], self.owners[cut])

    def is_tied(self, values: PlainValues, at: int) -> bool:
        """Return whether several groups have a value at the moment of the first (0) or the last
        (-1) one, so that only the order of the input would decide which it is.
        """
        if not self.owners:
            return False
        places = [place for place, item in enumerate(values.items) if item is not None]
        moment = self.moments[places[at]]
        return len({self.owners[p] for p in places if self.moments[p] == moment}) > 1


def plain_measure_value(
    terms: Sequence[Term],
    rows: Rows,
    units: Units | None = None,
    formula: Node | None = None,
    carried: Carried | None = None,
    span: tuple[int, int] = (0, 0),
) -> Any:
    """Return a measure of some transactions: its one term, the ratio of its two, or what a formula
    makes of them; `units` gives the days of a finer grain, `carried` what accounts have over the
    days of the `span`.

    >>> rows = Rows([0, 1, 2], {"x": PlainValues([150, None, 200], 2)})
    >>> plain_measure_value([Term("sum", "x")], rows)
    Fraction(7, 2)
    """
    values = [_nested_value(term, rows, units, carried, span) for term in terms]
    return combine_terms(terms, values, formula)


def combine_terms(terms: Sequence[Term], values: Sequence[Any], formula: Node | None) -> Any:
    """Return what the values of its terms make a measure.

    >>> combine_terms([Term("sum", "a"), Term("count", "")], [Fraction(7), 2], None)
    Fraction(7, 2)
    """
    if formula is not None:
        exact = [Fraction(value) if isinstance(value, int) else value for value in values]
        return evaluate_plain(formula, dict(zip(map(str, terms), exact, strict=True)))
    if len(values) == 1:
        return values[0]
    over, under = values
    return None if over is None or not under else Fraction(over) / Fraction(under)


def _nested_value(
    term: Term, rows: Rows, units: Units | None, carried: Carried | None, span: tuple[int, int]
) -> Any:
    """Return a term, which may work on the totals of a finer grain."""
    if term.is_balance:
        assert carried is not None
        return plain_twin(term.how)(carried(term, *span), term.share)
    if term.members is not None:
        return _of_members(term, rows)
    if term.inner is None:
        return _value_of_rows(term, rows)
    assert units is not None
    spans = [(day, day) for day in sorted(set(rows.days))]
    if term.grain != "active day":
        spans = list(units(term.grain))
    totals = [_of_parts(term, rows.between(*days), carried, days) for days in spans]
    return plain_twin(term.how)(PlainValues(totals), term.share)


def _of_parts(term: Term, rows: Rows, carried: Carried | None, days: tuple[int, int]) -> Any:
    """Return the inner total of some transactions: of one calculation, or a formula of several."""
    values = [
        _nested_value(part, rows, None, carried, days)
        if part.is_balance
        else _value_of_rows(part, rows)
        for part in term.parts
    ]
    if not isinstance(term.inner, Arithmetic):
        return values[0]
    exact = [Fraction(value) if isinstance(value, int) else value for value in values]
    return evaluate_plain(term.inner.node, dict(zip(map(str, term.parts), exact, strict=True)))


def _of_members(term: Term, rows: Rows) -> Any:
    """Return a term on the totals of each value of a column."""
    assert term.members is not None
    _, codes, values = term.members
    owners = rows.columns[codes.name].items
    items = owners if values is None else rows.columns[values.name].items
    by_owner: dict[Any, list[Any]] = {}
    for owner, item in zip(owners, items, strict=True):
        if owner is not None:
            by_owner.setdefault(owner, []).append(item)
    scale = 0 if values is None else rows.columns[values.name].scale
    inner = term.parts[0]
    totals = [
        plain_twin(inner.how)(PlainValues(own, scale), inner.share) for own in by_owner.values()
    ]
    return plain_twin(term.how)(PlainValues(totals), term.share)


def _value_of_rows(term: Term, rows: Rows) -> Any:
    """Return one calculation on some transactions; the days replace no column."""
    values = rows.columns[column_of(term)] if term.column else PlainValues(rows.days)
    if (
        term.how in PLACE_BY_TIME
        and values.filled_values()
        and rows.is_tied(values, PLACE_BY_TIME[term.how])
    ):
        return None
    if term.how == "sum" and not values.filled_values():
        there = (
            values.items
            if term.rows_met is None
            else rows.columns[term.rows_met.name].filled_values()
        )
        return None if there else Fraction(0)  # rows that all lack a value are not nothing
    return plain_twin(term.how)(values, term.share)


def column_of(term: Term) -> str:
    """Return where a term's values are among the columns of some rows."""
    return str(term) if term.how == "new" else term.column


def plain_twin(how: str) -> Callable[[PlainValues, float], Any]:
    """Return the plain twin of a calculation; raises `EptaroError` where it has none."""
    if how not in PLAIN:
        raise EptaroError(f"{how} cannot be proved: core/proof/plain.py has no twin for it")
    return PLAIN[how]


def _picking(pick: Callable[[list[Any]], Any]) -> Callable[[PlainValues, float], Any]:
    """Return the twin of a calculation that picks one of the values."""

    def picked(values: PlainValues, share: float) -> Any:
        filled = values.filled_values()
        if not filled or isinstance(filled[0], str | dt.date):
            return _as_day(pick(filled)) if filled else None
        return Fraction(pick(filled)) / 10**values.scale

    return picked


def _as_day(value: Any) -> Any:
    return value.date() if isinstance(value, dt.datetime) else value


def _plain_mean(values: PlainValues, share: float) -> Any:
    filled = values.filled_values()
    return Fraction(_sum(filled, values.scale)) / len(filled) if filled else None


def _var(values: PlainValues, share: float) -> Any:
    variance = _exact_variance(values)
    return None if variance is None or variance > sys.float_info.max else variance


def _std(values: PlainValues, share: float) -> Any:
    variance = _exact_variance(values)
    return None if variance is None else _root(variance)


def _exact_variance(values: PlainValues) -> Fraction | None:
    """Return the variance, however large."""
    filled = values.filled_values()
    return _variance(filled) / 100**values.scale if len(filled) > 1 else None


def _quantile(values: PlainValues, share: float) -> Any:
    ordered = sorted(values.filled_values())
    if not ordered:
        return None
    place = Fraction(str(share)) * (len(ordered) - 1)
    below = int(place)
    above = min(below + 1, len(ordered) - 1)
    low, high = Fraction(ordered[below]), Fraction(ordered[above])
    return (low + (high - low) * (place - below)) / 10**values.scale


PLACE_BY_TIME = {
    "first": 0,
    "last": -1,
}  # what is decided by time: the place of the one that counts
OF_ANY_KIND = ("distinct", "new")  # what takes values of any kind, text too
PLAIN: Mapping[str, Callable[[PlainValues, float], Any]] = {
    "sum": lambda values, share: _sum(values.filled_values(), values.scale),
    "count": lambda values, share: len(values.filled_values()),
    "mean": _plain_mean,
    "min": _picking(min),
    "max": _picking(max),
    "first": _picking(lambda filled: filled[0]),
    "last": _picking(lambda filled: filled[-1]),
    "distinct": lambda values, share: len(set(values.filled_values())),
    "new": lambda values, share: len(values.filled_values()),  # those that came before are blank
    "closing": lambda values, share: (
        _sum(filled, 0) if (filled := values.filled_values()) else None
    ),
    "opening": lambda values, share: (
        _sum(filled, 0) if (filled := values.filled_values()) else None
    ),
    "std": _std,
    "var": _var,
    "median": lambda values, share: _quantile(values, 0.5),
    "quantile": _quantile,
}


def _sum(filled: Sequence[Any], scale: int) -> Fraction:
    if float in set(map(type, filled)):
        try:
            return Fraction(math.fsum(filled))
        except OverflowError:  # in between; the sum itself may be a float
            total = sum(map(Fraction, filled), Fraction(0))
            return total if beyond_floats(total) else Fraction(float(total))
    return Fraction(Fraction(sum(filled)), 10**scale)


def _variance(filled: Sequence[Any]) -> Fraction:
    n = len(filled)
    if float in set(map(type, filled)):
        try:
            mean = math.fsum(filled) / n
            return Fraction(math.fsum((value - mean) ** 2 for value in filled)) / (n - 1)
        except OverflowError:
            filled = [*map(Fraction, filled)]
    total = sum(filled)
    return Fraction(n * sum(value * value for value in filled) - total * total) / (n * (n - 1))


def _root(value: Fraction) -> float:
    """Return the root of a fraction, which may itself be beyond the floats."""
    if value <= sys.float_info.max:
        return math.sqrt(value)
    shift = (value.numerator.bit_length() - value.denominator.bit_length()) // 2
    return math.ldexp(math.sqrt(value / 4**shift), shift)


def beyond_floats(value: Any) -> bool:
    """Return whether a value is a number that no float can be, where answers are blank."""
    return not isinstance(value, str | dt.date | None) and abs(value) > sys.float_info.max


def values_agree(result: Any, plain: Any, *, exact: bool, sides: Sequence[Any] = ()) -> bool:
    """Return whether a result equals its plain value: to the last digit where it is exact,
    to nine digits and more where it is a float; a difference of floats cannot be nearer than
    the `sides` that it is of.
    """
    if isinstance(plain, str | dt.date):
        return bool(result == plain)
    if result is None or result != result or plain is None:
        return (result is None or result != result) and (plain is None or beyond_floats(plain))
    if exact and not isinstance(result, float):
        return Fraction(result) == Fraction(plain)
    if beyond_floats(plain):
        return False
    largest = max((abs(side) for side in sides if side is not None), default=0)
    nearest = max(1e-9, float(min(largest, sys.float_info.max)) * 4 * sys.float_info.epsilon)
    return math.isclose(float(result), float(plain), rel_tol=1e-9, abs_tol=nearest)


def shown_plain(value: Any, decimals: int = 0) -> str:
    """Return a plain value as people read it, with at least so many decimals.

    >>> shown_plain(Fraction(707, 2), 2), shown_plain(Fraction(1, 8), 2), shown_plain(Fraction(7))
    ('353.50', '0.125', '7')
    """
    if value is None:
        return "blank"
    if isinstance(value, Fraction):
        digits = Decimal(value.numerator) / Decimal(value.denominator)
        exponent = digits.as_tuple().exponent
        more = -exponent if isinstance(exponent, int) else 0
        return f"{digits:,.{max(decimals, more)}f}"
    return str(value) if isinstance(value, str | dt.date) else f"{value:,}"
