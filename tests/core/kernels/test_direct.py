"""Statistics of ranges, each from its own values: both ways equal a sorted list."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eptaro.core.kernels.twins import direct
from tests.core.kernels.both import both

WHOLE = st.lists(st.integers(-(2**63), 2**63 - 1) | st.integers(-3, 3), min_size=1, max_size=80)
FLOATS = st.lists(
    st.floats(allow_nan=False) | st.sampled_from([0.0, -0.0, 1.5, 1.5, 2.0]),
    min_size=1,
    max_size=80,
)


class Neighbours(unittest.TestCase):
    """The k-th smallest value and the one after it."""

    def check(self, values: np.ndarray, lo: int, hi: int, k: int) -> None:
        ordered = sorted(values[lo:hi].tolist())
        wanted = [ordered[k], ordered[min(k + 1, hi - lo - 1)]]
        for module in both(direct, "direct"):
            found = np.zeros((2, 3), values.dtype)
            ends = (np.array(part, np.int64) for part in ([lo, 1, lo], [hi, 0, hi], [k, 0, k]))
            module.neighbours(values, *ends, found)
            self.assertEqual(found[:, 0].tolist(), wanted, module)
            self.assertEqual(found[:, 2].tolist(), wanted, module)
            self.assertEqual(found[:, 1].tolist(), [0, 0], "an empty range is left alone")

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
        for module in both(direct, "direct"):
            found = np.zeros((2, 1))
            one = [np.array([n]) for n in (0, 2, 0)]
            module.neighbours(np.array([0.0, -0.0]), *one, found)
            self.assertFalse(np.signbit(found).any())

    def test_what_reaches_out_is_refused(self):
        for module in both(direct, "direct"):
            for lo, hi, k in ((0, 4, 0), (-1, 2, 0), (0, 3, 3), (0, 3, -1)):
                one = [np.array([n]) for n in (lo, hi, k)]
                with self.assertRaises(IndexError):
                    module.neighbours(np.arange(3), *one, np.zeros((2, 1), np.int64))


class Distinct(unittest.TestCase):
    """How many different values ranges hold."""

    @given(st.lists(st.integers(0, 6), max_size=30), st.data())
    def test_of_any_ranges(self, listed: list, data: st.DataObject):
        place = st.integers(0, len(listed))
        ends = data.draw(st.lists(st.tuples(place, place), max_size=5))
        wanted = [len(set(listed[lo:hi])) for lo, hi in ends]
        lo, hi = (np.array([end[n] for end in ends], np.int64) for n in (0, 1))
        for module in both(direct, "direct"):
            found = np.zeros(len(ends), np.int64)
            module.distinct(np.array(listed, np.int32), lo, hi, 7, found)
            self.assertEqual(found.tolist(), wanted, module)

    def test_what_reaches_out_is_refused(self):
        for module in both(direct, "direct"):
            for codes, lo, hi in (([0, 1], 0, 3), ([0, 1], -1, 1), ([0, 2], 0, 1), ([-1, 0], 0, 1)):
                with self.assertRaises(IndexError):
                    one = (np.array([n], np.int64) for n in (lo, hi))
                    module.distinct(np.array(codes, np.int32), *one, 2, np.zeros(1, np.int64))
