"""Statistics of windows that slide, and of any ranges: both ways equal plain sorts and sets."""

import unittest
from fractions import Fraction

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from eptaro.core.kernels import order_statistics
from tests.core.kernels.both import both

WHOLE = st.lists(st.integers(-(2**63), 2**63 - 1) | st.integers(-3, 3), min_size=1, max_size=80)
FLOATS = st.lists(
    st.floats(allow_nan=False) | st.sampled_from([0.0, -0.0, 1.5, 1.5, 2.0]),
    min_size=1,
    max_size=80,
)


class Neighbours(unittest.TestCase):
    """The k-th smallest value of a range and the one after it."""

    def check(self, values: np.ndarray, lo: int, hi: int, k: int) -> None:
        ordered = sorted(values[lo:hi].tolist())
        wanted = [ordered[k], ordered[min(k + 1, hi - lo - 1)]]
        ends = [np.array(part, np.int64) for part in ([lo, 1, lo], [hi, 0, hi], [k, 0, k])]
        ends.append(np.array([min(k + 1, hi - lo - 1), 0, min(k + 1, hi - lo - 1)]))
        for way in both():
            found = order_statistics.neighbours(values, *ends)
            self.assertEqual(found[:, 0].tolist(), wanted, way)
            self.assertEqual(found[:, 2].tolist(), wanted, way)

    @given(WHOLE | FLOATS, st.data())
    def test_of_any_range(self, listed: list, data: st.DataObject):
        lo = data.draw(st.integers(0, len(listed) - 1))
        hi = data.draw(st.integers(lo + 1, len(listed)))
        kind = np.int64 if isinstance(listed[0], int) else np.float64
        self.check(np.array(listed, kind), lo, hi, data.draw(st.integers(0, hi - lo - 1)))

    def test_of_many_values_that_share_digits(self):
        rng = np.random.default_rng(8)
        for values in (
            rng.integers(-300, 300, 3000), np.repeat(np.array([7, 9]), 500),
            rng.integers(-(2**62), 2**62, 3000), np.round(rng.normal(0, 1e4, 3000), 2),
        ):  # fmt: skip
            for k in (0, 1, 498, 499, 500, 700, len(values) - 2, len(values) - 1):
                self.check(values, 0, len(values), k)

    def test_there_is_one_zero(self):
        for _ in both():
            one = [np.array([n]) for n in (0, 2, 0, 1)]
            self.assertFalse(
                np.signbit(order_statistics.neighbours(np.array([0.0, -0.0]), *one)).any()
            )


class Middle(unittest.TestCase):
    """The mean of the two middle values is rounded once."""

    @given(WHOLE | FLOATS, WHOLE | FLOATS)
    @example([-(2**53) + 3], [2**53 - 2])
    @example([-1e308], [1.1e308])
    def test_of_two(self, ones: list, others: list):
        one, two = ones[0], others[0]
        kind = np.int64 if isinstance(one, int) and isinstance(two, int) else np.float64
        values = np.sort(np.array([one, two], kind))
        exact = sum(map(Fraction, values.tolist())) / 2 if np.isfinite(values).all() else None
        (found,) = order_statistics.quantiles(values, np.array([0]), np.array([2]), 0.5).tolist()
        if exact is not None and abs(exact) < 2**1022:
            self.assertEqual(found, float(exact))


class Distinct(unittest.TestCase):
    """How many different values ranges hold."""

    @given(st.lists(st.integers(0, 6), max_size=30), st.data())
    def test_of_any_ranges(self, listed: list, data: st.DataObject):
        place = st.integers(0, len(listed))
        ends = data.draw(st.lists(st.tuples(place, place), max_size=5))
        wanted = [len(set(listed[lo:hi])) for lo, hi in ends]
        lo, hi = (np.array([end[n] for end in ends], np.int64) for n in (0, 1))
        for way in both():
            found = order_statistics.count_distinct(np.array(listed, np.int32), lo, hi)
            self.assertEqual(found.tolist(), wanted, way)


class Windows(unittest.TestCase):
    """Random windows over few and many different values."""

    def test_two_ranks_and_how_many_differ(self):
        rng = np.random.default_rng(14)
        for bound in (1, 2, 7, 300):
            numbers = rng.integers(0, bound, 400)
            for times in (1, 12):  # ranges that share little, and much
                lo = np.sort(rng.integers(0, 400, 150 * times))
                hi = np.maximum.accumulate(np.minimum(lo + rng.integers(0, 60, len(lo)), 400))
                below = (rng.random(len(lo)) * (hi - lo)).astype(np.int64)
                above = np.minimum(below + 1, np.maximum(hi - lo - 1, 0))
                for way in both():
                    found = order_statistics.neighbours(numbers, lo, hi, below, above)
                    counts = order_statistics.count_distinct(numbers, lo, hi)
                    for at in range(len(lo)):
                        held = sorted(numbers[lo[at] : hi[at]].tolist())
                        if held:
                            wanted = [held[below[at]], held[above[at]]]
                            self.assertEqual(found[:, at].tolist(), wanted, way)
                        self.assertEqual(counts[at], len({*held}), way)

    def test_the_least_and_the_largest(self):
        rng = np.random.default_rng(4)
        for values in (rng.integers(0, 30, 300), rng.normal(size=300), rng.integers(0, 2, 300)):
            lo = rng.integers(0, 300, 200)
            hi = np.minimum(lo + rng.integers(0, 60, 200), 300)
            onward = np.sort(lo), np.maximum.accumulate(np.maximum(np.sort(hi), np.sort(lo)))
            for largest, best in ((False, min), (True, max)):
                for ends in (onward, (lo, hi)):
                    wanted = [
                        best(values[a:b].tolist(), default=0) for a, b in zip(*ends, strict=True)
                    ]
                    for way in both():
                        found = order_statistics.extremes(values, *ends, largest=largest)
                        self.assertEqual(found.tolist(), wanted, way)

    def test_ranges_in_any_order(self):
        rng = np.random.default_rng(15)
        for values in (
            rng.integers(0, 40, 300),
            rng.random(300),
            rng.integers(0, 9, 300).astype(object) * 10**30,
        ):
            lo = rng.integers(0, 300, 900)
            hi = np.minimum(lo + rng.integers(0, 200, 900), 300)
            for _ in both():
                found = order_statistics.quantiles(values, lo, hi, 0.5)
                counts = (
                    order_statistics.count_distinct(values, lo, hi)
                    if values.dtype != object
                    else None
                )
                for at in range(900):
                    held = sorted(values[lo[at] : hi[at]].tolist())
                    if held:
                        middle = (held[(len(held) - 1) // 2] + held[len(held) // 2]) / 2
                        near = found[at] / middle if middle else found[at] + 1
                        self.assertAlmostEqual(near, 1, 12)
                    if counts is not None:
                        self.assertEqual(counts[at], len({*held}))
