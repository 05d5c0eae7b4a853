"""Windows that slide, and any ranges, equal plain sorts and sets."""

import unittest

import numpy as np

from eptaro.core.kernels import ranges
from eptaro.core.kernels.twins import extremes, sliding
from tests.core.kernels.both import both


class Windows(unittest.TestCase):
    """Random windows over few and many different values."""

    def test_two_ranks_and_how_many_differ(self):
        rng = np.random.default_rng(14)
        for bound in (1, 2, 7, 300):
            numbers = rng.integers(0, bound, 400).astype(np.int32)
            lo = np.sort(rng.integers(0, 400, 150))
            hi = np.maximum.accumulate(np.minimum(lo + rng.integers(0, 60, 150), 400))
            length = hi - lo
            below = (rng.random(150) * length).astype(np.int64)
            above = np.minimum(below + 1, np.maximum(length - 1, 0))
            for module in both(sliding, "sliding"):
                found, counts = np.full((2, 150), -1), np.full(150, -1)
                module.window_neighbours(numbers, lo, hi, below, above, bound, found)
                module.window_distinct(numbers, lo, hi, bound, counts)
                for at in range(150):
                    held = sorted(numbers[lo[at] : hi[at]].tolist())
                    wanted = [held[below[at]], held[above[at]]] if held else [-1, -1]
                    self.assertEqual(found[:, at].tolist(), wanted, module)
                    self.assertEqual(counts[at], len({*held}))

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
                    found = ranges.extremes(values, *ends, largest=largest)
                    self.assertEqual(found.tolist(), wanted)
                for module in both(extremes, "extremes"):
                    found = np.zeros(200, values.dtype)
                    module.window_extremes(values, *onward, largest, found)
                    found_all = ranges.extremes(values, *onward, largest=largest)
                    self.assertEqual(found.tolist(), found_all.tolist(), module)
        values, found = np.arange(3.0), np.zeros(2)
        for module in both(extremes, "extremes"):
            for lo, hi, error in (([0, 0], [1, 4], IndexError), ([0, -1], [1, 1], IndexError),
                                  ([1, 0], [2, 2], ValueError), ([0, 1], [2, 1], ValueError)):  # fmt: skip
                with self.assertRaises(error):
                    module.window_extremes(values, np.array(lo), np.array(hi), True, found)
            with self.assertRaises(ValueError):
                module.window_extremes(values, np.array([0]), np.array([1]), True, found)

    def test_what_is_not_there_and_what_goes_back(self):
        numbers, one = np.array([0, 1, 1], np.int32), np.array([0])
        for module in both(sliding, "sliding"):
            for bound, lo, hi, error in (
                (1, [0], [1], IndexError), (2, [0], [4], IndexError), (2, [-1], [1], IndexError), (2, [2], [1], IndexError),
                (2, [1, 0], [2, 2], ValueError), (2, [0, 0], [2, 1], ValueError),
            ):  # fmt: skip
                ends = np.array(lo), np.array(hi)
                with self.assertRaises(error):
                    module.window_distinct(numbers, *ends, bound, np.zeros(len(lo), np.int64))
                zeros = np.zeros(len(lo), np.int64)
                with self.assertRaises(error):
                    module.window_neighbours(
                        numbers, *ends, zeros, zeros, bound, np.zeros((2, len(lo)), np.int64)
                    )
            with self.assertRaises(IndexError):
                module.window_neighbours(
                    numbers, one, np.array([2]), np.array([2]), one, 2, np.zeros((2, 1), np.int64)
                )

    def test_ranges_in_any_order(self):
        rng = np.random.default_rng(15)
        for values in (
            rng.integers(0, 40, 300),
            rng.random(300),
            rng.integers(0, 9, 300).astype(object) * 10**30,
        ):
            lo = rng.integers(0, 300, 900)
            hi = np.minimum(lo + rng.integers(0, 200, 900), 300)
            found = ranges.quantile(values, lo, hi, 0.5)
            counts = ranges.distinct(values, lo, hi) if values.dtype != object else None
            for at in range(900):
                held = sorted(values[lo[at] : hi[at]].tolist())
                if held:
                    middle = (held[(len(held) - 1) // 2] + held[len(held) // 2]) / 2
                    self.assertAlmostEqual(found[at] / middle if middle else found[at] + 1, 1, 12)
                if counts is not None:
                    self.assertEqual(counts[at], len({*held}))
