"""Whole numbers of any size: int64 where they surely fit, Python integers where they might not.

Everything that is calculated from cells goes through here, so nothing wraps: an array is of
Python integers (dtype object) where 64 bits might be too few, and comes back to int64 as soon
as its values are seen to fit. Only a value that is shown must fit in the end (`Column.settled`).

An array of int64 holds the promise that the sum of its absolute values is below 2**63 wherever
it is added up (`added_up`); running sums of it, and differences of these, are then exact.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


ROOM = 1 << 63  # one past the largest value that int64 holds


_SURE = 0.999 * ROOM  # sums of absolute values calculated as floats are that near


def largest_absolute(values: Array) -> int:
    """Return the largest absolute value, 0 where there is none. `values` has any shape."""
    if not len(values):
        return 0
    return max(abs(int(values.min())), abs(int(values.max()))) if values.size else 0


def widen(values: Array) -> Array:
    """Return the same whole numbers as Python integers.

    `values` is `(n,)` of any integers, the result `(n,) object`.

    >>> widen(np.array([1.0, 1e19]))[1]
    10000000000000000000
    """
    if values.dtype.kind == "f":
        return np.asarray(np.frompyfunc(int, 1, 1)(values), object)
    return values.astype(object)


def fits_int64(values: Array) -> bool:
    """Return whether all whole numbers fit into 64 bits.

    >>> fits_int64(np.array([-(2**63), 2**63 - 1], object)), fits_int64(np.array([2**63], object))
    (True, False)
    """
    return not len(values) or (values.min() >= -ROOM and values.max() < ROOM)


def narrow_integers(values: Array) -> Array:
    """Return Python integers as int64 where all of them fit, else as they are.

    `values` is `(n,)`.
    """
    return values.astype(np.int64) if values.dtype == object and fits_int64(values) else values


def added_up(values: Array) -> Array:
    """Return whole numbers ready to be added up: wide where a sum of theirs might not fit.

    `values` is `(n,)`.
    """
    if values.dtype == object and not fits_int64(values):
        return values
    plain = values.astype(np.int64, copy=False)
    if np.abs(plain.astype(np.float64)).sum() < _SURE:
        return plain
    return values.astype(object)


def add(left: Array, right: Array) -> Array:
    """Return the sums of two arrays that are ready to be added up; they still are.

    All arrays have one shape.
    """
    return left + right if stays_int64(left, right) else widen(left) + widen(right)


def stays_int64(*parts: Array) -> bool:
    """Return whether arrays that are ready to be added up are in 64 bits, and still would be if
    they were one.
    """
    if any(part.dtype == object for part in parts):
        return False
    # A bound that is quick to find comes first.
    if sum(largest_absolute(part) * len(part) for part in parts) < _SURE:
        return True
    return sum(float(np.abs(part.astype(np.float64)).sum()) for part in parts) < _SURE


def subtract(left: Array, right: Array) -> Array:
    """Return the exact differences of whole numbers, wide only where they must be.

    Both are `(n,)`.

    >>> subtract(np.array([2**62]), np.array([-(2**62)])).tolist() == [2**63]
    True
    """
    if (
        object not in (left.dtype, right.dtype)
        and largest_absolute(left) + largest_absolute(right) < ROOM
    ):
        return left.astype(np.int64) - right.astype(np.int64)
    return narrow_integers(widen(left) - widen(right))


def multiply(values: Array, factor: int) -> Array:
    """Return the exact multiples of whole numbers. `values` has any shape."""
    if values.dtype != object and largest_absolute(values) * abs(factor) < ROOM:
        return values.astype(np.int64) * np.int64(factor)
    return narrow_integers(widen(values) * factor)


def split_nearest(values: Array) -> tuple[Array, NDArray[np.float64]]:
    """Return the nearest whole numbers of floats and of integers beyond them, and the rest.

    `values` is `(n,)`, and so are the results.

    >>> whole, rest = split_nearest(np.array([2.25, 10**400], object))
    >>> whole[0], whole[1] == 10**400, rest.tolist()
    (2, True, [0.25, 0.0])
    """
    listed = values.tolist()
    whole = np.array([*map(round, listed), None], object)[:-1]
    rest = [v - w if isinstance(v, float) else 0.0 for v, w in zip(listed, whole, strict=True)]
    return whole, np.array(rest, np.float64)


def to_floats(values: Array) -> NDArray[np.float64]:
    """Return whole numbers as floats, those beyond the floats as infinite.

    `values` is `(n,)`, the result `(n,) float64`.
    """
    try:
        return values.astype(np.float64)
    except OverflowError:
        return np.array([_float(value) for value in values.tolist()])


def _float(value: Any) -> float:
    try:
        return float(value)
    except OverflowError:
        return float("inf") if value > 0 else float("-inf")


def exact_total(values: Array) -> int:
    """Return the exact sum of whole numbers.

    `values` is `(n,)`.

    >>> exact_total(np.array([2**62, 2**62])) == 2**63
    True
    """
    if values.dtype != object and largest_absolute(values) * len(values) < ROOM:
        return int(values.sum())
    return int(sum(values.tolist()))


def narrowed_to(array: Array, *, floats: bool) -> Array:
    """Return Python numbers in 64 bits, or as they are where some do not fit. `array` is `(n,)`."""
    if not floats:
        return narrow_integers(array)
    try:
        return array.astype(np.float64)
    except OverflowError:
        return array


def rank_values(values: Array) -> NDArray[np.int64]:
    """Return the place of each value among the different ones in order; whole numbers that are not
    far apart are marked rather than sorted.

    `values` is `(n,)`, the result `(n,) int64`.

    >>> rank_values(np.array([7, -2, 7])).tolist(), rank_values(np.array([0.5, 9e9])).tolist()
    ([1, 0, 1], [0, 1])
    """
    if values.dtype == np.int64 and len(values):
        least, most = int(values.min()), int(values.max())
        if most - least < 8 * len(values):
            present = np.zeros(most - least + 1, bool)
            present[values - least] = True
            places: NDArray[np.int64] = (np.cumsum(present) - 1)[values - least]
            return places
    return np.unique(values, return_inverse=True)[1].ravel()
