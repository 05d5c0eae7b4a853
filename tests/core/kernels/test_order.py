"""Orders and ranks, at the widths where they change their way."""

import unittest

import numpy as np

from eptaro.core.kernels.twins import order
from eptaro.core.kernels.twins.order import moments, ranks
from tests.core.kernels.both import both


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
            for module in both(order, "order"):
                self.assertEqual(module.stable_order(keys).tolist(), wanted, (module, most))
        for module in both(order, "order"):
            for some in ([], [4], [1, 1, 2], [2, 1]):
                wanted = sorted(range(len(some)), key=some.__getitem__)
                self.assertEqual(module.stable_order(np.array(some, np.int64)).tolist(), wanted)

    def test_different_numbers(self):
        rng = np.random.default_rng(6)
        for bound, count in ((1, 3), (50, 1000), (1 << 16, 5), (1 << 20, 40), (1 << 40, 500)):
            keys = rng.integers(0, bound, count)
            keys[-1] = bound - 1
            for module in both(order, "order"):
                found, places = module.distinct(keys, bound)
                self.assertEqual(found.tolist(), sorted({*keys.tolist()}), module)
                np.testing.assert_array_equal(found[places], keys)
        for module in both(order, "order"):
            found = module.distinct(np.zeros(0, np.int64), 0)
            self.assertEqual([part.tolist() for part in found], [[], []])
            with self.assertRaises(IndexError):
                module.distinct(np.array([3, 1]), 3)

    def test_places_among_keys_in_order(self):
        rng = np.random.default_rng(9)
        for size in (0, 1, 7, 300):
            keys = np.sort(rng.integers(-50, 50, size))
            for asked in (rng.integers(-60, 60, 200), np.sort(rng.integers(-60, 60, 200)), keys):
                wanted = [sum(key < number for key in keys.tolist()) for number in asked.tolist()]
                for module in both(order, "order"):
                    self.assertEqual(module.places(keys, asked).tolist(), wanted, module)

    def test_ranks_and_moments(self):
        days, times = np.array([3, 1, 3, 1, 2, 1]), np.array([5, 9, 2, 9, 0, 1])
        self.assertEqual(ranks(times, days).tolist(), [5, 1, 4, 2, 3, 0])
        self.assertEqual(moments(days, times).tolist(), [4, 1, 3, 1, 2, 0])
        self.assertEqual(moments(days[:0], times[:0]).tolist(), [])
