"""All steps of a batch carried out: one pass of the kernel folds its planes into their cells."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.batch import Batch
from eptaro.core.folds.cells import Tally
from eptaro.core.folds.rows.rowcells import RowCells
from eptaro.core.folds.rows.steps import Step
from eptaro.core.kernels.chosen import fold
from eptaro.core.kernels.plans import WORDS, Op, Plan, fresh, words_of
from eptaro.core.kernels.sidebyside import at_once, in_slices
from eptaro.core.kernels.twins.folding import join

_MOST_PLANS = 64  # that the loop takes at once
_MOST_PARTS = 4
_LEAST_PART = 1 << 19  # rows
_NO_TIMES = np.empty(0, np.int64)
Words = NDArray[np.int64]


def carried_out(steps: Sequence[Step], cells_of: RowCells, batch: Batch) -> list[Tally]:
    """Return what each step makes of the rows of a batch."""
    counting = [step for step in steps if step.op == Op.ROWS]  # all of these come to the same
    others = [step for step in steps if step.op not in (None, Op.ROWS)]
    packed = _packed(others, len(batch)) if counting else None
    plans: list[Plan] = []
    begins: dict[Step, int] = {}
    word = 0
    for step in others if packed else [*counting[:1], *others]:
        begins[step] = word
        plan = packed.plan if packed and step is packed.step else step.plan()
        plans.append(plan._replace(word=word))
        word += WORDS[plan.op]
    words = [*_folded(plans, cells_of, batch).T]
    found = {step: words[begin:] for step, begin in begins.items()}
    if packed:
        both, shift = found[packed.step], packed.plan.shift
        sums, rows = _parted(both[0], shift)
        found[packed.step] = [sums, *both[1:]]
        found[counting[0]] = [rows]
    found |= dict.fromkeys(counting[1:], found[counting[0]] if counting else [])
    counted = counting[0].tally(found[counting[0]], cells_of) if counting else None
    return [  # planes that only count rows are one and the same, and are kept once
        step.tally(found.get(step, []), cells_of)
        if counted is None or step.op != Op.ROWS
        else counted
        for step in steps
    ]


def sole_values(steps: Sequence[Step]) -> Step | None:
    """Return the one step that adds up values, where all others only count rows: its values can be
    put in order themselves, which is quicker than to look them up.
    """
    others = [step for step in steps if step.op != Op.ROWS]
    return others[0] if len(others) == 1 and others[0].moves else None


def _parted(both: Ints, shift: int) -> tuple[Ints, Ints]:
    """Return the sums and the numbers of rows that stand in one word each."""
    sums, rows = np.empty((2, len(both)), np.int64)

    def some(of: slice) -> None:
        np.right_shift(both[of], shift, out=sums[of])
        np.bitwise_and(both[of], (1 << shift) - 1, out=rows[of])

    in_slices(some, len(both))
    return sums, rows


class _Packed(NamedTuple):
    """A step whose first word has room for the number of rows, and its plan."""

    step: Step
    plan: Plan


def _packed(steps: Iterable[Step], rows: int) -> _Packed | None:
    """Return the first step that has such room; None where there is none."""
    found = ((step, step.packed(rows)) for step in steps)
    return next((_Packed(step, plan) for step, plan in found if plan is not None), None)


def _folded(plans: Sequence[Plan], cells_of: RowCells, batch: Batch) -> Words:
    """Return the words of all cells.

    Rows in the order of their cells are cut where cells end, and no two parts share one. Of
    others, parts are folded side by side and joined in their order; how many there are depends
    on the rows and cells alone, so that sums of floats do not depend on the machine.
    """
    rows, size = len(batch), cells_of.size
    times = _NO_TIMES if batch.times is None else batch.times
    most = min(_MOST_PARTS, rows // _LEAST_PART)
    if cells_of.is_in_order:
        words = fresh(size, plans)
        cuts = _cuts(cells_of.slots, max(most, 1))
        at_once([partial(_fold_part, plans, cells_of, times, of, words) for of in cuts])
        return words
    parts = max(min(most, 2 * rows // (size * words_of(plans))), 1)
    cuts = [slice(rows * n // parts, rows * (n + 1) // parts) for n in range(parts)]

    def one(of: slice) -> Words:
        words = fresh(size, plans)
        _fold_part(plans, cells_of, times, of, words)
        return words

    words, *others = at_once([partial(one, of) for of in cuts])
    for other in others:
        words = join(words, other, plans)
    return words


def _fold_part(
    plans: Sequence[Plan], cells_of: RowCells, times: Ints, of: slice, words: Words
) -> None:
    """Fold some rows."""
    rows: Any = of if cells_of.order is None else cells_of.order[of]
    own = [
        plan._replace(
            values=None if plan.values is None else plan.values[rows],
            filled=None if plan.filled is None else plan.filled[rows],
        )
        for plan in plans
    ]
    moments = times[rows] if len(times) else times
    days, slots = cells_of.days[of], cells_of.slots[of]
    for start in range(0, len(own), _MOST_PLANS):
        some = own[start : start + _MOST_PLANS]
        fold(days, slots, cells_of.first, cells_of.width, words, some, moments, of.start)


def _cuts(cells: NDArray[Any], parts: int) -> list[slice]:
    """Return about as many parts of cells that are in order, none of which shares a cell."""
    near = len(cells) * np.arange(1, parts) // parts
    ends = np.unique(np.searchsorted(cells, cells[near])).tolist()
    return [slice(*cut) for cut in zip([0, *ends], [*ends, len(cells)], strict=True)]
