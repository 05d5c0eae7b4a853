"""Statistics of ranges that share few values, each worked out from its own values.

The twin, in NumPy, of `compiled/direct.pyx`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.twins.order import Values


def neighbours(values: Values, lo: Ints, hi: Ints, k: Ints, found: Values) -> None:
    """Put the k-th smallest value of each range and the one after it, the k-th again where it is
    the last, into two rows of `found`; an empty range leaves what is there.

    Raises `IndexError` for ranges or numbers that do not exist.

    >>> found = np.zeros((2, 1), np.int64)
    >>> one = [np.array([n]) for n in (0, 3, 1)]
    >>> neighbours(np.array([5, 1, 4]), *one, found)
    >>> found.ravel().tolist()
    [4, 5]
    """
    owner, place = _flat(lo, hi, len(values))
    length = np.maximum(hi - lo, 0)
    filled = length > 0
    if (k[filled] < 0).any() or (k >= length)[filled].any():
        raise IndexError("a range has not so many values")
    own = values[place] + values.dtype.type(0)  # there is one zero
    own = own[np.lexsort((own, owner))]
    at = (np.cumsum(length) - length + k)[filled]
    found[0, filled] = own[at]
    found[1, filled] = own[at + (k + 1 < length)[filled]]


def distinct(codes: NDArray[np.int32], lo: Ints, hi: Ints, bound: int, found: Ints) -> None:
    """Put the number of different codes, which are from 0 to below `bound`, of each range into
    `found`.

    Raises `IndexError` for ranges or codes that do not exist.

    >>> found = np.zeros(2, np.int64)
    >>> codes = np.array([1, 1, 0], np.int32)
    >>> distinct(codes, np.array([0, 0]), np.array([2, 3]), 2, found)
    >>> found.tolist()
    [1, 2]
    """
    if len(codes) and not 0 <= codes.min() <= codes.max() < bound:
        raise IndexError(f"a code lies outside 0..{bound - 1}")
    owner, place = _flat(lo, hi, len(codes))
    met = np.unique(owner * bound + codes[place])
    found[:] = np.bincount(met // max(bound, 1), minlength=len(lo))


def _flat(lo: Ints, hi: Ints, size: int) -> tuple[Ints, Ints]:
    """Return the range and the place of every value that ranges hold, one range after another."""
    length = np.maximum(hi - lo, 0)
    filled = length > 0
    if (lo[filled] < 0).any() or (hi[filled] > size).any():
        raise IndexError(f"a range goes beyond {size} values")
    owner = np.repeat(np.arange(len(lo)), length)
    place = np.arange(len(owner)) - np.repeat(np.cumsum(length) - length, length)
    return owner, place + lo[owner]
