"""Texts to codes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints


def code(
    data: NDArray[np.uint8], offsets: NDArray[Any], filled: NDArray[np.uint8]
) -> tuple[NDArray[np.int32], Ints]:
    """Return a code for each text, in the order in which they are met, and the row that each code
    occurs in first.

    Text i is the bytes `offsets[i]` to `offsets[i + 1]` (int32 or int64) of `data`; `filled`, one
    byte a row, may be empty where all are, and the code of what is not is -1. Raises `IndexError`
    for offsets that lead out of the data.

    >>> data, offsets = np.frombuffer(b"abcab", np.uint8), np.array([0, 2, 3, 5])
    >>> [part.tolist() for part in code(data, offsets, np.empty(0, np.uint8))]
    [[0, 1, 0], [0, 1]]
    """
    rows = len(offsets) - 1
    if len(filled) not in (0, rows):
        raise ValueError(f"{len(filled)} flags for {rows} texts")
    if rows > 0 and (offsets[0] < 0 or offsets[-1] > len(data) or (np.diff(offsets) < 0).any()):
        raise IndexError(f"texts go beyond {len(data)} bytes")
    whole, ends = data.tobytes(), offsets.tolist()
    met: dict[bytes, int] = {}
    codes = np.full(max(rows, 0), -1, np.int32)
    firsts: list[int] = []
    for row in range(rows):
        if not len(filled) or filled[row]:
            codes[row] = met.setdefault(whole[ends[row] : ends[row + 1]], len(met))
            if len(firsts) < len(met):
                firsts.append(row)
    return codes, np.array(firsts, np.int64)
