"""Whole numbers that lie close together, and pairs of them, as codes."""

import unittest
from unittest import mock

import numpy as np

from eptaro.core.kernels import occurring, sidebyside
from eptaro.core.kernels.twins import marking
from tests.core.kernels.both import both


def sliced(rows: int, most: int) -> list[slice]:
    """Return uneven slices of rows, one of them empty."""
    return [slice(0, rows // 3), slice(rows // 3, rows // 3), slice(rows // 3, rows)]


class Marked(unittest.TestCase):
    """Each way equals sets and lists, whole and in slices."""

    def test_numbers_of_a_span(self):
        rng = np.random.default_rng(10)
        for least, span in ((0, 1), (-40, 90), (2**62, 500), (-(2**63), 7)):
            values = least + rng.integers(0, span, 300)
            met = sorted({*values.tolist()})
            for module in both(marking, "marking"):
                seen = np.zeros(span, np.uint8)
                module.mark(values, least, seen)
                self.assertEqual((np.flatnonzero(seen) + least).tolist(), met, module)
                codes, numbers = np.empty(300, np.int32), np.arange(span, dtype=np.int32)
                module.numbered(values, least, numbers, codes)
                self.assertEqual((codes.astype(np.int64) + least).tolist(), values.tolist(), module)
                for wrong in (least - 1, least + span):
                    if -(2**63) <= wrong < 2**63:
                        with self.assertRaises(IndexError):
                            module.mark(np.array([wrong]), least, seen)
                        with self.assertRaises(IndexError):
                            module.numbered(np.array([wrong]), least, numbers, codes[:1])
                with self.assertRaises(ValueError):
                    module.numbered(values, least, numbers, codes[1:])
            for cut in (sidebyside.shares, sliced):
                with mock.patch.object(occurring, "shares", cut):
                    found, places = occurring.close_together(values, least, span)
                self.assertEqual(found.tolist(), met)
                self.assertEqual(found[places].tolist(), values.tolist())

    def test_pairs(self):
        rng = np.random.default_rng(1)
        one, two = (rng.integers(0, bound, 80).astype(np.int32) for bound in (6, 9))
        wanted = (one * 9 + two).tolist()
        for module in both(marking, "marking"):
            seen, codes = np.zeros(54, np.uint8), np.empty(80, np.int32)
            module.mark_pairs(one, two, 6, 9, seen)
            self.assertEqual(np.flatnonzero(seen).tolist(), sorted({*wanted}), module)
            module.number_pairs(one, two, 6, 9, np.arange(54, dtype=np.int32), codes)
            self.assertEqual(codes.tolist(), wanted, module)
            for height, width in ((5, 9), (6, 8)):
                room = height * width
                with self.assertRaises(IndexError):
                    module.mark_pairs(one, two, height, width, seen[:room])
                with self.assertRaises(IndexError):
                    numbers = np.zeros(room, np.int32)
                    module.number_pairs(one, two, height, width, numbers, codes)
            for height, width in ((6, 8), (-6, -9), (2**40, 2**40)):
                with self.assertRaises(ValueError):
                    module.mark_pairs(one, two, height, width, seen)
            with self.assertRaises(ValueError):
                module.mark_pairs(one, two[1:], 6, 9, seen)
        for cut in (sidebyside.shares, sliced):
            with mock.patch.object(occurring, "shares", cut):
                met, places = occurring.occurring_pairs(one, two, 6, 9)
            self.assertEqual(met[places].tolist(), wanted)

    def test_numbers_whether_marked_or_sorted(self):
        rng = np.random.default_rng(6)
        for bound, count in ((1, 3), (50, 1000), (1 << 16, 5), (1 << 20, 40), (1 << 40, 500)):
            keys = rng.integers(0, bound, count)
            found, places = occurring.occurring(keys, bound)
            self.assertEqual(found.tolist(), sorted({*keys.tolist()}))
            np.testing.assert_array_equal(found[places], keys)
            with self.assertRaises(IndexError):
                occurring.occurring(np.append(keys, bound), bound)
