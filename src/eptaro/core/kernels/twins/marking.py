"""Whole numbers that lie close together as codes: those that occur are marked, then numbered."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Codes = NDArray[np.int32]
Marks = NDArray[np.uint8]


def mark(values: Ints, least: int, seen: Marks) -> None:
    """Mark each value at its distance from the least; raises `IndexError` for one beyond.

    >>> seen = np.zeros(5, np.uint8)
    >>> mark(np.array([7, 5, 7]), 4, seen)
    >>> seen.tolist()
    [0, 1, 0, 1, 0]
    """
    if len(values) and not least <= values.min() <= values.max() < least + len(seen):
        raise IndexError(f"values lie outside {least}..{least + len(seen) - 1}")
    seen[values - least] = 1


def numbered(values: Ints, least: int, numbers: Codes, codes: Codes) -> None:
    """Put the number of each value, which stands at its distance from the least, into `codes`.

    Raises `IndexError` for a value beyond the numbers.

    >>> codes = np.empty(3, np.int32)
    >>> numbered(np.array([7, 5, 7]), 4, np.array([0, 0, 1, 1, 2], np.int32), codes)
    >>> codes.tolist()
    [1, 0, 1]
    """
    if len(codes) != len(values):
        raise ValueError(f"{len(codes)} codes for {len(values)} values")
    if len(values) and not least <= values.min() <= values.max() < least + len(numbers):
        raise IndexError(f"values lie outside {least}..{least + len(numbers) - 1}")
    codes[:] = numbers[values - least]


def mark_pairs(one: Codes, two: Codes, height: int, width: int, seen: Marks) -> None:
    """Mark each pair of numbers below `height` and `width` at `one * width + two`.

    Raises `IndexError` for other numbers.

    >>> seen = np.zeros(6, np.uint8)
    >>> mark_pairs(np.array([1, 0, 1], np.int32), np.array([2, 0, 2], np.int32), 2, 3, seen)
    >>> seen.tolist()
    [1, 0, 0, 0, 0, 1]
    """
    seen[_pairs(one, two, height, width, len(seen))] = 1


def number_pairs(
    one: Codes, two: Codes, height: int, width: int, numbers: Codes, codes: Codes
) -> None:
    """Put the number of each pair, which stands at `one * width + two`, into `codes`.

    Raises `IndexError` for numbers that are not below `height` and `width`.

    >>> codes, numbers = np.empty(2, np.int32), np.array([0, 1, 1, 1, 1, 1], np.int32)
    >>> number_pairs(np.array([1, 0], np.int32), np.array([2, 0], np.int32), 2, 3, numbers, codes)
    >>> codes.tolist()
    [1, 0]
    """
    if len(codes) != len(one):
        raise ValueError(f"{len(codes)} codes for {len(one)} pairs")
    codes[:] = numbers[_pairs(one, two, height, width, len(numbers))]


def _pairs(one: Codes, two: Codes, height: int, width: int, room: int) -> Ints:
    if len(one) != len(two):
        raise ValueError(f"{len(one)} numbers beside {len(two)}")
    if height < 0 or width < 0 or height * width != room:
        raise ValueError(f"{height} times {width} pairs have no room in {room}")
    if len(one) and (one.min() < 0 or two.min() < 0 or one.max() >= height or two.max() >= width):
        raise IndexError(f"pairs lie outside {height} times {width}")
    return one.astype(np.int64) * width + two
