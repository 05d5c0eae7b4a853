"""The cells that rows lie in, and the one pass that folds all planes of a batch into them."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.batch import Batch
from eptaro.core.folds.cells import Tally
from eptaro.core.folds.steps import Step
from eptaro.core.kernels.chosen import fold
from eptaro.core.kernels.folding import join
from eptaro.core.kernels.plans import WORDS, Plan, fresh

_MOST_PARTS = 4
_LEAST_PART = 1 << 19  # rows
_NONE = np.empty(0, np.int64)


class RowCells:
    """The cell of each row: slot * width + day - first, where either may be missing."""

    def __init__(
        self, days: NDArray[np.int32] | None, slots: NDArray[Any] | None, first: int, width: int
    ) -> None:
        self.days = np.empty(0, np.int32) if days is None else np.ascontiguousarray(days)
        self.slots = _NONE if slots is None else np.ascontiguousarray(slots)
        self.first, self.width = first, width

    @classmethod
    def known(cls, cells: Ints) -> RowCells:
        """Return the cells of rows that are known."""
        return cls(None, cells, 0, 1)

    def at(self, rows: Any) -> Ints:
        """Return the cells of some rows: a slice, flags or places."""
        if not len(self.days):
            return np.asarray(self.slots[rows], np.int64)
        if not len(self.slots):
            return np.asarray(self.days[rows], np.int64) - self.first
        cell: Ints = self.slots[rows].astype(np.int64)
        cell *= self.width
        cell += self.days[rows]
        cell -= self.first
        return cell


def carried_out(steps: Sequence[Step], cells_of: RowCells, size: int, batch: Batch) -> list[Tally]:
    """Return what each step makes of the rows of a batch, over `size` cells."""
    plans: list[Plan] = []
    begins, word = [], 0
    for step in steps:
        begins.append(word)
        if step.op is not None:
            plans.append(step.plan(word))
            word += WORDS[step.op]
    words = _folded(plans, cells_of, size, batch)
    return [
        step.tally(
            words[:, begin : begin + (0 if step.op is None else WORDS[step.op])], cells_of.at
        )
        for step, begin in zip(steps, begins, strict=True)
    ]


def _folded(
    plans: Sequence[Plan], cells_of: RowCells, size: int, batch: Batch
) -> NDArray[np.int64]:
    """Return the words of all cells: of parts of the rows side by side, joined in their order.

    How many parts there are depends on the rows and cells alone, so that sums of floats do not
    depend on the machine.
    """
    rows = len(batch)
    parts = max(min(_MOST_PARTS, rows // _LEAST_PART, rows // (4 * size)), 1)
    times = _NONE if batch.times is None else batch.times

    def one(part: int) -> NDArray[np.int64]:
        of = slice(rows * part // parts, rows * (part + 1) // parts)
        own = [
            plan._replace(
                values=None if plan.values is None else plan.values[of],
                filled=None if plan.filled is None else plan.filled[of],
            )
            for plan in plans
        ]
        words = fresh(size, plans)
        days, slots = cells_of.days[of], cells_of.slots[of]
        fold(days, slots, cells_of.first, cells_of.width, words, own, times[of], of.start)
        return words

    if parts == 1:
        return one(0)
    from concurrent.futures import ThreadPoolExecutor  # it brings logging: not at the start

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        words, *others = pool.map(one, range(parts))
    for other in others:
        words = join(words, other, plans)
    return words
