"""The rows of columns that a mask keeps, in slices side by side."""

from __future__ import annotations

from functools import cached_property, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import dispatch
from eptaro.core.kernels.parallel import run_parallel, slices


class RowMask:
    """A mask of rows, and how many it keeps.

    >>> keeping = RowMask(np.array([True, False, True]))
    >>> keeping.count, keeping.of(np.array([5, 6, 7])).tolist(), keeping.places.tolist()
    (2, [5, 7], [0, 2])
    """

    def __init__(self, mask: Flags) -> None:
        self.mask = np.ascontiguousarray(mask)
        self._marks = self.mask.view(np.uint8)
        self._slices = slices(len(mask))
        counts = run_parallel([partial(np.count_nonzero, mask[of]) for of in self._slices])
        self._ends = np.cumsum([0, *counts]).tolist()

    @property
    def count(self) -> int:
        """How many rows are kept."""
        return int(self._ends[-1])

    def of(self, values: NDArray[Any]) -> NDArray[Any]:
        """Return the rows of an array of one dimension that are kept."""
        plain = values.dtype != object and values.dtype.itemsize in (1, 2, 4, 8)
        if dispatch.loops is None or not plain:
            return values[self.mask]
        keep, found = dispatch.loops.keep, np.empty(self.count, values.dtype)
        word = f"u{values.dtype.itemsize}"
        one, two = np.ascontiguousarray(values).view(word), found.view(word)
        run_parallel([partial(keep, one[of], self._marks[of], two[to]) for of, to in self._parts()])
        return found

    @cached_property
    def places(self) -> Ints:
        """The places of the rows that are kept."""
        if dispatch.loops is None:
            return np.flatnonzero(self.mask)
        places, found = dispatch.loops.kept_places, np.empty(self.count, np.int64)
        works = [partial(places, self._marks[of], of.start, found[to]) for of, to in self._parts()]
        run_parallel(works)
        return found

    def _parts(self) -> list[tuple[slice, slice]]:
        ends = zip(self._ends, self._ends[1:], strict=False)
        return [(of, slice(*to)) for of, to in zip(self._slices, ends, strict=True)]
