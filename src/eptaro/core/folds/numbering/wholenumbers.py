"""`WholeNumbers`: a number for each different whole number met, without an object for each."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.bycell import joined_runs
from eptaro.core.kernels.chosen import places


class WholeNumbers:
    """Gives each different value one number, in the order met.

    >>> table = WholeNumbers()
    >>> table.number(np.array([70, 30])).tolist(), table.number(np.array([30, 50])).tolist()
    ([0, 1], [1, 2])
    >>> table.values().tolist()
    [70, 30, 50]
    """

    def __init__(self) -> None:
        self._known = np.empty(0, np.int64)  # in order
        self._numbers = np.empty(0, np.int32)

    def __len__(self) -> int:
        return len(self._known)

    def number(self, values: Ints) -> NDArray[np.int32]:
        """Return the number of each of some different values."""
        order = None
        if not (values[1:] > values[:-1]).all():
            order = np.argsort(values, kind="stable")
            values = values[order]
        at = places(self._known, values)
        old = at < len(self)
        old[old] = self._known[at[old]] == values[old]
        numbers = np.empty(len(values), np.int32)
        numbers[old] = self._numbers[at[old]]
        new = np.flatnonzero(~old)
        fresh = np.arange(len(self), len(self) + len(new), dtype=np.int32)
        numbers[new] = fresh
        if order is not None:
            numbers[new[np.argsort(order[new], kind="stable")]] = fresh
        known, mine, theirs = joined_runs(self._known, values[new])
        joined = np.empty(len(known), np.int32)
        joined[mine], joined[theirs] = self._numbers, numbers[new]
        self._known, self._numbers = known, joined
        if order is None:
            return numbers
        found = np.empty(len(values), np.int32)
        found[order] = numbers
        return found

    def values(self) -> Ints:
        """Return all values by their numbers."""
        found = np.empty(len(self), np.int64)
        found[self._numbers] = self._known
        return found
