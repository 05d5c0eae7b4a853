"""The compiled fold and its twin leave the same words, and those that plain Python works out."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eptaro.core.kernels import folding
from eptaro.core.kernels.folding import HALF, LIMB, WORDS, Op, Plan, empty_cells
from tests.core.kernels.both import both

FLOATS = (
    Op.SUM_FLOATS,
    Op.SUM_FLOATS_HALVES,
    Op.PACKED_FLOATS,
    Op.SQUARE_FLOATS,
    Op.SQUARE_FLOATS_LIMBS,
)
PACKED = (Op.PACKED, Op.PACKED_FLOATS)
SHIFT = 20


def made(seed: int, rows: int) -> tuple:
    """Return arguments of a fold for random rows; every plan stands over both kinds of values."""
    random = np.random.default_rng(seed)
    width, first, groups = int(random.integers(1, 9)), int(random.integers(-5, 5)), 4
    days = (first + random.integers(0, width, rows)).astype(np.int32)
    slots = random.integers(0, groups, rows).astype(random.choice([np.int32, np.int64]))
    times = random.integers(0, 3, rows) if random.random() < 0.5 else np.empty(0, np.int64)
    scale = random.choice([1.0, 1e3, 1e12])
    whole = np.rint(random.normal(0, scale, rows)).astype(np.int64)
    floats = np.round(random.normal(0, scale, rows), 2)
    floats[random.random(rows) < 0.2] = np.nan
    plans, word = [], 0
    for op in Op:
        if scale > 1e3 and op in (Op.SQUARE, Op.SQUARE_FLOATS, *PACKED):
            continue  # their squares do not fit, nor a count beside them
        for values in (whole, floats):
            if (op in FLOATS and values is whole) or (
                op in (Op.SUM, Op.SUM_HALVES, Op.PACKED, Op.SQUARE, Op.SQUARE_LIMBS)
                and values is floats
            ):
                continue
            filled = None
            if random.random() < 0.5:
                filled = (random.random(rows) < 0.7).astype(np.uint8)
            centre = int(random.integers(-3, 3)) if op in FLOATS else 0
            plans.append(Plan(op, word, values, filled, centre, SHIFT if op in PACKED else 0))
            word += WORDS[op]
    return days, slots, first, width, empty_cells(groups * width, plans), plans, times, 100


def run(arguments: tuple) -> list[np.ndarray]:
    """Return the cells after a fold, each way."""
    days, slots, first, width, cells, plans, times, row = arguments
    found = []
    for _ in both():
        found.append(cells.copy())
        folding.fold(days, slots, first, width, found[-1], plans, times, row)
    return found


class Folding(unittest.TestCase):
    """The words of cells."""

    @given(st.integers(0, 2**32), st.integers(0, 40))
    def test_both_ways_leave_the_same_words(self, seed: int, rows: int):
        one, *others = run(made(seed, rows))
        for other in others:
            np.testing.assert_array_equal(one, other, strict=True)

    def test_both_ways_agree_over_blocks_and_chunks(self):
        for rows in (1, 511, 512, 513, folding.CHUNK + 1, 3 * folding.CHUNK):
            one, *others = run(made(rows, rows))
            for other in others:
                np.testing.assert_array_equal(one, other, strict=True)

    @given(st.integers(0, 2**32), st.integers(1, 40))
    def test_the_words_say_what_plain_python_works_out(self, seed: int, rows: int):
        arguments = made(seed, rows)
        self.check(arguments, run(arguments)[-1])

    @given(st.integers(0, 2**32), st.integers(1, 40), st.integers(0, 40))
    def test_joined_parts_say_it_too(self, seed: int, rows: int, cut: int):
        days, slots, first, width, cells, plans, times, row = arguments = made(seed, rows)
        joined = []
        for _ in both():
            parts = []
            for of in (slice(0, cut), slice(cut, None)):
                own = [
                    plan._replace(
                        values=plan.values[of],
                        filled=None if plan.filled is None else plan.filled[of],
                    )
                    for plan in plans
                ]
                parts.append(cells.copy())
                folding.fold(
                    days[of], slots[of], first, width, parts[-1], own, times[of], row + of.start
                )
            joined.append(folding.join_cells(*parts, plans))
        for other in joined:
            np.testing.assert_array_equal(joined[0], other, strict=True)
        self.check(arguments, joined[0])

    def check(self, arguments: tuple, cells: np.ndarray) -> None:
        days, slots, first, width, _, plans, times, row = arguments
        rows = len(days)
        for cell in range(len(cells)):
            own = [i for i in range(rows) if slots[i] * width + days[i] - first == cell]
            for plan in plans:
                kept = own if plan.op == Op.ROWS else [i for i in own if there(plan, i)]
                found = told(plan, cells[cell])
                exact = expected(plan, kept, times, row)
                if plan.op in PACKED:
                    counted = int(cells[cell][plan.word]) & ((1 << SHIFT) - 1)
                    self.assertEqual(counted, len(own), plan.op.name)
                if plan.op in FLOATS:
                    self.assertLessEqual(
                        abs(found - exact), abs(exact) / 10**15 + 1e-12, plan.op.name
                    )
                else:
                    self.assertEqual(found, exact, plan.op.name)


def there(plan: Plan, i: int) -> bool:
    """Return whether a row has a value."""
    return (plan.filled is None or bool(plan.filled[i])) and plan.values[i] == plan.values[i]


def told(plan: Plan, words: np.ndarray):
    """Return what the words of a cell mean."""
    own = words[plan.word : plan.word + WORDS[plan.op]]
    low = int(own[0])
    match plan.op:
        case Op.SUM_HALVES:
            return (int(own[1]) << HALF) + low
        case Op.PACKED:
            return low >> SHIFT
        case Op.PACKED_FLOATS:
            return (low >> SHIFT) + Fraction(float(own[1:].view(float)[0]))
        case Op.SUM_FLOATS | Op.SQUARE_FLOATS:
            return low + Fraction(float(own[1:].view(float)[0]))
        case Op.SUM_FLOATS_HALVES:
            return (int(own[1]) << HALF) + low + Fraction(float(own[2:].view(float)[0]))
        case Op.SQUARE_LIMBS:
            return (int(own[2]) << 2 * LIMB) + (int(own[1]) << LIMB) + low
        case Op.SQUARE_FLOATS_LIMBS:
            whole = (int(own[2]) << 2 * LIMB) + (int(own[1]) << LIMB) + low
            return whole + Fraction(float(own[3:].view(float)[0]))
        case Op.LEAST | Op.LARGEST | Op.FIRST | Op.LAST:
            value = float(own[:1].view(plan.values.dtype)[0])
            return (value, int(own[1])) if own[1] >= 0 else None
        case _:
            return low


def expected(plan: Plan, kept: list[int], times: np.ndarray, row: int):
    """Return what rows come to under a plan, in fractions."""
    values = {i: plan.values[i].item() for i in kept}
    moment = {i: (int(times[i]) if len(times) else 0, i) for i in kept}
    match plan.op:
        case Op.ROWS | Op.FILLED:
            return len(kept)
        case Op.SUM | Op.SUM_HALVES | Op.PACKED:
            return sum(values.values())
        case Op.SUM_FLOATS | Op.SUM_FLOATS_HALVES | Op.PACKED_FLOATS:
            return sum(Fraction(v) for v in values.values())
        case Op.SQUARE | Op.SQUARE_LIMBS:
            return sum(v**2 for v in values.values())
        case Op.SQUARE_FLOATS | Op.SQUARE_FLOATS_LIMBS:
            return sum((Fraction(v) - plan.centre) ** 2 for v in values.values())
        case _ if not kept:
            return None
        case Op.LEAST:
            won = min(kept, key=lambda i: (values[i], -i))
        case Op.LARGEST:
            won = max(kept, key=lambda i: (values[i], i))
        case Op.FIRST:
            won = min(kept, key=moment.__getitem__)
        case Op.LAST:
            won = max(kept, key=moment.__getitem__)
    return (float(values[won]), won + row)
