"""Ranges of cells, and what lies between two places of running sums."""

import unittest
from bisect import bisect_left

import numpy as np

from eptaro.core.kernels.twins import gathering
from tests.core.kernels.both import both


class Bounds(unittest.TestCase):
    """Each equals a search for each end by itself."""

    def test_dense_and_sparse_in_any_order(self):
        rng = np.random.default_rng(8)
        width, begin = 6, 100
        every = np.sort(rng.choice(width * 9, 20, replace=False))
        for keys in (np.empty(0, np.int64), every, every[:1]):
            group, first, last = rng.integers([[0], [95], [95]], [[9], [112], [112]], (3, 500))
            for order in (slice(None), np.argsort(group, kind="stable")):
                asked = [np.ascontiguousarray(part[order]) for part in (group, first, last)]
                for module in both(gathering, "gathering"):
                    lo, hi = np.empty((2, 500), np.int64)
                    module.bounds(keys, *asked, begin, width, lo, hi)
                    for row, (g, one, two) in enumerate(zip(*asked, strict=True)):
                        ends = [
                            g * width + min(max(day - begin, 0), width) for day in (one, two + 1)
                        ]
                        ends[1] = max(ends)
                        if len(keys):
                            ends = [bisect_left(keys.tolist(), end) for end in ends]
                        self.assertEqual([lo[row], hi[row]], ends, module)

    def test_the_same_spans_of_one_group_after_the_other(self):
        rng = np.random.default_rng(7)
        width, begin = 6, 100
        every = np.sort(rng.choice(width * 9, 20, replace=False))
        for keys in (np.empty(0, np.int64), every, every[:1]):
            first, last = rng.integers(95, 112, (2, 8))
            for start, count in ((0, 9), (3, 4), (8, 1), (2, 0)):
                wanted = np.empty((2, count * 8), np.int64)
                group = np.repeat(np.arange(start, start + count), 8)
                asked = np.tile(first, count), np.tile(last, count)
                gathering.bounds(keys, group, *asked, begin, width, *wanted)
                for module in both(gathering, "gathering"):
                    lo, hi = np.empty((2, count, 8), np.int64)
                    module.bounds_of_all(keys, start, first, last, begin, width, lo, hi)
                    self.assertEqual(lo.ravel().tolist(), wanted[0].tolist(), module)
                    self.assertEqual(hi.ravel().tolist(), wanted[1].tolist(), module)
                    with self.assertRaises(ValueError):
                        module.bounds_of_all(keys, start, first[1:], last, begin, width, lo, hi)

    def test_what_lies_between(self):
        rng = np.random.default_rng(4)
        whole, rest = rng.integers(-(2**60), 2**60, 50), rng.random(50)
        lo, hi = rng.integers(0, 50, (2, 200))
        for module in both(gathering, "gathering"):
            found, floats = np.empty(200, np.int64), np.empty(200)
            module.between(whole, lo, hi, found)
            module.between_floats(whole, rest, lo, hi, floats)
            for row in range(200):
                way = int(whole[hi[row]]) - int(whole[lo[row]])
                self.assertEqual(found[row], way)
                self.assertEqual(floats[row], float(way) + (rest[hi[row]] - rest[lo[row]]))
            for wrong in (-1, 50):
                for pair in ([[0], [wrong]], [[wrong], [0]]):
                    with self.assertRaises(IndexError):
                        module.between(whole, *np.array(pair), np.empty(1, np.int64))
                    with self.assertRaises(IndexError):
                        module.between_floats(whole, rest, *np.array(pair), np.empty(1))

    def test_cells_are_added_to_others(self):
        rng = np.random.default_rng(6)
        target = rng.integers(-1, 9, 60)
        for cells in (rng.integers(-(2**60), 2**60, 60), rng.integers(-99, 99, 60) / 4):
            wanted = [sum(cells[target == n].tolist()) for n in range(10)]
            for module in both(gathering, "gathering"):
                found = np.zeros(10, cells.dtype)
                if cells.dtype == np.int64:
                    wanted = [(total + 2**63) % 2**64 - 2**63 for total in wanted]
                module.scatter(cells, target, found)
                self.assertEqual(found.tolist(), wanted)
                with self.assertRaises(IndexError):
                    module.scatter(cells[:1], np.array([10]), found)
