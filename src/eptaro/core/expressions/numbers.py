"""Arithmetic on columns of numbers, exact for whole numbers and decimals; blank spreads."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags
from eptaro.core.expressions.tree import Compared, Reckoned
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import of_one_kind

Array = NDArray[Any]
_MOST_DECIMALS = 18
_COMPARE: dict[Compared, Callable[[Any, Any], Any]] = {
    "=": np.equal,
    "!=": np.not_equal,
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
}


class UnfitError(ValueError):
    """An exact number that does not fit into 64 bits or has too many decimals."""


def filled(column: Column) -> Flags | None:
    """Return where a column has values, None where everywhere."""
    return column.filled(slice(None))


def both(*flags: Flags | None) -> Flags | None:
    """Return where all of several flags are set, None where everywhere."""
    some = [flag for flag in flags if flag is not None]
    found: Flags | None = None
    for flag in some:
        found = flag if found is None else found & flag
    return found


def reckoned(how: Reckoned, one: Column, two: Column) -> Column:
    """Return two columns added, subtracted, multiplied, divided, or the remainder.

    Raises `UnfitError` where an exact result cannot be kept.
    """
    one, two = _counted(one), _counted(two)
    if how == "/" or "float" in (one.kind, two.kind):
        return _floats(how, _as_floats(one), _as_floats(two))  # a blank is NaN, which spreads
    valid = both(filled(one), filled(two))
    if how == "*":
        return _exact(_times(one.data, two.data), one.scale + two.scale, valid)
    one, two = of_one_kind([one, two])
    match how:
        case "+":
            return _exact(_plus(one.data, two.data), one.scale, valid)
        case "-":
            return _exact(exact.minus(one.data, two.data), one.scale, valid)
        case _:
            zero = np.asarray(two.data == 0)
            left, right = one.data, np.where(zero, 1, two.data)
            if object not in (left.dtype, right.dtype):
                found = np.fmod(left, right)
            else:
                left, right = exact.wide(left), exact.wide(right)
                found = np.sign(left) * (abs(left) % abs(right))
            return _exact(np.asarray(found), one.scale, both(valid, ~zero if zero.any() else None))


def negative(column: Column) -> Column:
    """Return a column with its sign turned."""
    return reckoned("-", Column.of("", "integer", [0]), column)


def compared(how: Compared, one: Column, two: Column) -> tuple[Array, Flags | None]:
    """Return how numbers compare, and where there are two."""
    one, two = _counted(one), _counted(two)
    valid = both(filled(one), filled(two))
    if "float" in (one.kind, two.kind):
        return np.asarray(_COMPARE[how](one.numbers(), two.numbers())), valid
    one, two = of_one_kind([one, two])
    return np.asarray(_COMPARE[how](one.data, two.data), bool), valid


def ordered(how: Compared, one: Array, two: Array) -> Array:
    """Return how plain arrays compare."""
    return np.asarray(_COMPARE[how](one, two))


def rounded(column: Column, places: int) -> Column:
    """Return numbers with so many decimals, halves away from zero."""
    column = _counted(column)
    if column.kind == "float":
        unit = 10.0**places
        with np.errstate(over="ignore", invalid="ignore"):
            found = np.copysign(np.floor(np.abs(column.data) * unit + 0.5) / unit, column.data)
        return Column.of("", "float", np.where(np.isinf(found), column.data, found), column.valid)
    if places >= column.scale:
        return column
    unit = 10 ** (column.scale - places)
    half = np.abs(exact.wide(column.data)) * 2 + unit
    units = np.sign(exact.wide(column.data)) * (half // (2 * unit))
    if places < 0:
        return _exact(exact.narrow(units * 10**-places), 0, column.valid)
    return _exact(exact.narrow(units), places, column.valid)


def whole(column: Column, *, up: bool) -> Column:
    """Return the whole numbers below or above."""
    column = _counted(column)
    if column.kind == "float":
        return Column.of("", "float", (np.ceil if up else np.floor)(column.data), column.valid)
    unit = 10**column.scale
    found = -(-column.data // unit) if up else column.data // unit
    return _exact(np.asarray(found), 0, column.valid)


def size(column: Column) -> Column:
    """Return numbers without their sign."""
    column = _counted(column)
    if column.kind == "float":
        return Column.of("", "float", np.abs(column.data), column.valid)
    least = column.data.dtype != object and exact.most(column.data) == exact.ROOM
    data = abs(exact.wide(column.data)) if least else abs(column.data)
    return _exact(data, column.scale, column.valid)


def _counted(column: Column) -> Column:
    """Return a column of numbers; what is true counts as 1."""
    if column.kind != "flag":
        return column
    return Column.of("", "integer", column.data.astype(np.int64), column.valid)


def _as_floats(column: Column) -> Array:
    return column.data if column.kind == "float" and column.valid is None else column.numbers()


def _floats(how: Reckoned, one: Array, two: Array) -> Column:
    with np.errstate(all="ignore"):
        match how:
            case "+":
                found = one + two
            case "-":
                found = one - two
            case "*":
                found = one * two
            case "/":
                found = np.where(two == 0, np.nan, one / np.where(two == 0, 1.0, two))
            case _:
                found = np.where(two == 0, np.nan, np.fmod(one, np.where(two == 0, 1.0, two)))
    return Column.of("", "float", found)


def _plus(one: Array, two: Array) -> Array:
    if object not in (one.dtype, two.dtype) and exact.most(one) + exact.most(two) < exact.ROOM:
        return np.asarray(_in_64_bits(one) + _in_64_bits(two))
    return exact.narrow(exact.wide(one) + exact.wide(two))


def _times(one: Array, two: Array) -> Array:
    if object not in (one.dtype, two.dtype) and exact.most(one) * exact.most(two) < exact.ROOM:
        return np.asarray(_in_64_bits(one) * _in_64_bits(two))
    return exact.narrow(exact.wide(one) * exact.wide(two))


def _in_64_bits(values: Array) -> Array:
    return values.astype(np.int64, copy=False)


def _exact(data: Array, scale: int, valid: Flags | None) -> Column:
    """Return whole units as a column; what is blank may hold anything."""
    if data.dtype == object:
        kept = data if valid is None else np.where(valid, data, 0)
        data = exact.narrow(np.asarray(kept, object))
        if data.dtype == object:
            large = max(data.tolist(), key=abs)
            raise UnfitError(f"{large}E-{scale}")
    if scale > _MOST_DECIMALS:
        raise UnfitError(f"{scale} decimals")
    if valid is not None:
        valid = np.broadcast_to(valid, np.broadcast_shapes(valid.shape, data.shape))
        data = np.broadcast_to(data, valid.shape)
    return Column.of("", "decimal" if scale else "integer", data, valid, scale=scale)
