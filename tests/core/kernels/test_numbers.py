"""Numbers as they are read."""

import unittest

import numpy as np

from eptaro.core.kernels.twins import numbers
from tests.core.kernels.both import both


class Numbers(unittest.TestCase):
    """Extents, 64 bits of 128, and units of floats."""

    def test_the_extent_of_floats(self):
        rng = np.random.default_rng(2)
        for size in (0, 1, 7, 8, 9, 100):
            for some in (0.0, 0.5, 1.0):
                values = rng.normal(size=size)
                values[rng.random(size) < some] = np.nan
                filled = [value for value in values.tolist() if value == value]
                wanted = (
                    min(filled, default=np.inf),
                    max(filled, default=-np.inf),
                    size - len(filled),
                )
                for module in both(numbers, "numbers"):
                    self.assertEqual(module.extent(values), wanted, module)

    def test_what_fits_into_64_bits(self):
        given = [0, -1, 2**63 - 1, -(2**63), 7]
        words = np.array([[(n + 2**63) % 2**64 - 2**63, n >> 64] for n in given], np.int64)
        none = np.empty(0, np.uint8)
        for module in both(numbers, "numbers"):
            low = np.empty(5, np.int64)
            self.assertEqual(module.narrow(words, none, low), -1)
            self.assertEqual(low.tolist(), given)
            for wrong in (2**63, -(2**63) - 1, 2**64):
                words_ = words.copy()
                words_[2] = [(wrong + 2**63) % 2**64 - 2**63, wrong >> 64]
                self.assertEqual(module.narrow(words_, none, low), 2)
                flags = np.array([1, 1, 0, 1, 1], np.uint8)
                self.assertEqual(module.narrow(words_, flags, low), -1)
                self.assertEqual(low.tolist(), [0, -1, 0, -(2**63), 7])
            with self.assertRaises(ValueError):
                module.narrow(words, none, low[:4])

    def test_units_of_floats(self):
        for module in both(numbers, "numbers"):
            found = np.empty(3, np.int64)
            self.assertTrue(module.units(np.array([0.1, -2.0, 3.07]), 100.0, 2.0**53, found))
            self.assertEqual(found.tolist(), [10, -200, 307])
            for wrong in (0.105, np.nan, np.inf, 1e17):
                self.assertFalse(module.units(np.array([0.1, wrong, 1.0]), 100.0, 2.0**53, found))
            with self.assertRaises(ValueError):
                module.units(np.array([0.1]), 100.0, 2.0**53, found)
