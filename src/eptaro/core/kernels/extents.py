"""The least and the largest of many values, looked for in slices side by side."""

from __future__ import annotations

from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.kernels import dispatch
from eptaro.core.kernels.sidebyside import at_once, cut

_AT_ONCE = 1 << 16  # values: they are in the processor's cache when the largest is looked for


class Extent(NamedTuple):
    """The least and the largest of values, and how many are NaN, which are neither."""

    least: float
    most: float
    blanks: int


def of_floats(values: NDArray[np.float64]) -> Extent:
    """Return the extent of floats; inf and -inf where there is no value.

    >>> of_floats(np.array([2.0, np.nan, -1.5]))
    Extent(least=-1.5, most=2.0, blanks=1)
    """
    if dispatch.loops is None:
        least = float(np.fmin.reduce(values, initial=np.inf))
        most = float(np.fmax.reduce(values, initial=-np.inf))
        return Extent(least, most, int(np.count_nonzero(np.isnan(values))))
    extent, values = dispatch.loops.extent, np.ascontiguousarray(values)
    parts = at_once([partial(extent, values[of]) for of in cut(len(values))])
    lows, highs, blanks = zip(*parts, strict=True)
    return Extent(min(lows), max(highs), sum(blanks))


def ends(values: NDArray[Any]) -> tuple[int, int]:
    """Return the least and the largest of whole numbers, of which there are some.

    >>> ends(np.array([3, -1, 2], np.int32))
    (-1, 3)
    """

    def found(of: slice) -> tuple[int, int]:
        parts = [
            values[at : min(at + _AT_ONCE, of.stop)] for at in range(of.start, of.stop, _AT_ONCE)
        ]
        both = [(int(part.min()), int(part.max())) for part in parts]
        return min(both)[0], max(most for _, most in both)

    least, most = zip(*at_once([partial(found, of) for of in cut(len(values))]), strict=True)
    return min(least), max(most)
