"""Orders and ranks, at the widths where they change their way."""

import unittest

import numpy as np

from eptaro.core.kernels.order import distinct, moments, ranks, stable_order


class Orders(unittest.TestCase):
    """Each equals what a plain sort of tuples gives."""

    def test_of_whole_numbers_of_every_width(self):
        rng = np.random.default_rng(5)
        for most in (3, (1 << 16) - 1, 1 << 16, 1 << 17, (1 << 32) - 1, 1 << 32, 1 << 40):
            keys = np.concatenate(
                [rng.integers(0, most, 400, endpoint=True), [most, 0, most, 1 << 15]]
            )
            keys = np.concatenate([keys, keys[::3], keys[:50] ^ 1])
            wanted = sorted(range(len(keys)), key=lambda at, keys=keys: (int(keys[at]), at))
            self.assertEqual(stable_order(keys).tolist(), wanted, most)
        self.assertEqual(stable_order(np.zeros(0, np.int64)).tolist(), [])

    def test_different_numbers_whether_marked_or_sorted(self):
        rng = np.random.default_rng(6)
        for bound, count in ((1, 3), (50, 1000), (1 << 16, 5), (1 << 20, 40), (1 << 40, 500)):
            keys = rng.integers(0, bound, count)
            keys[-1] = bound - 1
            found, places = distinct(keys, bound)
            self.assertEqual(found.tolist(), sorted({*keys.tolist()}))
            np.testing.assert_array_equal(found[places], keys)
        self.assertEqual([part.tolist() for part in distinct(np.zeros(0, np.int64), 0)], [[], []])

    def test_ranks_and_moments(self):
        days, times = np.array([3, 1, 3, 1, 2, 1]), np.array([5, 9, 2, 9, 0, 1])
        self.assertEqual(ranks(times, days).tolist(), [5, 1, 4, 2, 3, 0])
        self.assertEqual(moments(days, times).tolist(), [4, 1, 3, 1, 2, 0])
        self.assertEqual(moments(days[:0], times[:0]).tolist(), [])
