"""`Words`: a number for each different text met, told apart by hashes and then by themselves."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.folds.numbering.wholenumbers import WholeNumbers
from eptaro.core.kernels.texts import Texts, hashes_of_texts


class Words:
    """Gives each different text one number, in the order met.

    >>> table = Words()
    >>> table.number(np.array(["b", "a"], object)), table.number(np.array(["a", "c"], object))
    (array([0, 1], dtype=int32), array([1, 2], dtype=int32))
    >>> table.values().tolist()
    ['b', 'a', 'c']
    """

    def __init__(self) -> None:
        self._keys = WholeNumbers()
        self._met = np.empty(0, object)  # texts by their numbers, with room behind them

    def __len__(self) -> int:
        return len(self._keys)

    def number(self, words: Texts) -> NDArray[np.int32] | None:
        """Return the number of each of some different texts; None, and nothing is met then, where
        hashes do not tell texts apart.
        """
        keys = hashes_of_texts(words).view(np.int64)
        ordered = np.sort(keys)
        if (ordered[1:] == ordered[:-1]).any():
            return None
        before = len(self)
        numbers = self._keys.number(keys)
        fresh = words[numbers >= before]
        if before + len(fresh) > len(self._met):
            grown = np.empty(2 * (before + len(fresh)), object)
            grown[:before] = self._met[:before]
            self._met = grown
        self._met[before : before + len(fresh)] = fresh
        return numbers if (self._met[numbers] == words).all() else None

    def values(self) -> Texts:
        """Return all texts by their numbers."""
        return self._met[: len(self)]
