"""Rows that a mask keeps, one after the other."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Mask = NDArray[np.uint8]


def keep(values: NDArray[Any], mask: Mask, kept: NDArray[Any]) -> None:
    """Put the values at which a mask is not 0 into `kept`, as many as have room there.

    Values are numbers without a sign, of 8 to 64 bits. Raises `ValueError` where there are fewer.

    >>> kept = np.empty(2, np.uint32)
    >>> keep(np.array([5, 6, 7], np.uint32), np.array([1, 0, 1], np.uint8), kept)
    >>> kept.tolist()
    [5, 7]
    """
    if len(mask) != len(values):
        raise ValueError(f"a mask of {len(mask)} for {len(values)} values")
    kept[:] = _fitting(values[mask != 0], len(kept))


def kept_places(mask: Mask, first: int, places: Ints) -> None:
    """Put the places at which a mask is not 0, counted from `first`, into `places`.

    Raises `ValueError` where there are fewer than have room.

    >>> places = np.empty(2, np.int64)
    >>> kept_places(np.array([1, 0, 1], np.uint8), 10, places)
    >>> places.tolist()
    [10, 12]
    """
    places[:] = _fitting(np.flatnonzero(mask), len(places)) + first


def _fitting(found: NDArray[Any], room: int) -> NDArray[Any]:
    if len(found) < room:
        raise ValueError(f"the mask keeps {len(found)} rows, not {room}")
    return found[:room]
