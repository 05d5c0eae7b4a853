"""Ranges of cells, and what lies between two places of running sums."""

import unittest
from bisect import bisect_left

import numpy as np

from eptaro.core.kernels import range_sums
from tests.core.kernels.both import both


class Bounds(unittest.TestCase):
    """Each equals a search for each end by itself."""

    def test_dense_and_sparse_in_any_order(self):
        rng = np.random.default_rng(8)
        width, begin = 6, 100
        every = np.sort(rng.choice(width * 9, 20, replace=False))
        for keys in (None, every, every[:1]):
            group, first, last = rng.integers([[0], [95], [95]], [[9], [112], [112]], (3, 500))
            for order in (slice(None), np.argsort(group, kind="stable")):
                asked = [np.ascontiguousarray(part[order]) for part in (group, first, last)]
                for way in both():
                    lo, hi = range_sums.bounds(keys, *asked, begin, width)
                    for row, (g, one, two) in enumerate(zip(*asked, strict=True)):
                        ends = [
                            g * width + min(max(day - begin, 0), width) for day in (one, two + 1)
                        ]
                        ends[1] = max(ends)
                        if keys is not None:
                            ends = [bisect_left(keys.tolist(), end) for end in ends]
                        self.assertEqual([lo[row], hi[row]], ends, way)

    def test_the_same_spans_of_one_group_after_the_other(self):
        rng = np.random.default_rng(7)
        width, begin = 6, 100
        every = np.sort(rng.choice(width * 9, 20, replace=False))
        for keys in (None, every, every[:1]):
            # Any spans, and such as follow each other: of all days, of some, with an empty one.
            cuts = [[95, 101, 104, 112], [100, 103, 106], [100, 106], [101, 106], [100, 105],
                    [100, 103, 103, 106]]  # fmt: skip
            following = [np.array([cut[:-1], np.array(cut[1:]) - 1]) for cut in cuts]
            following += [
                np.array([[100, 104], [102, 105]]),
                np.array([[100, 105, 103], [104, 102, 105]]),
            ]
            for first, last in (rng.integers(95, 112, (2, 8)), *following):
                for count in (9, 4, 1, 0):
                    group = np.repeat(np.arange(count), len(first))
                    spans = np.tile(first, count), np.tile(last, count)
                    for way in both():
                        wanted = range_sums.bounds(keys, group, *spans, begin, width)
                        found = range_sums.bounds_of_all(keys, count, first, last, begin, width)
                        for one, two in zip(found, wanted, strict=True):
                            self.assertEqual(one.tolist(), two.tolist(), way)

    def test_what_lies_between(self):
        rng = np.random.default_rng(4)
        whole, rest = rng.integers(-(2**60), 2**60, 50), rng.random(50)
        lo, hi = rng.integers(0, 50, (2, 200))
        for _ in both():
            found = range_sums.growth_between(whole, lo, hi)
            floats = range_sums.growth_between(whole, lo, hi, rest)
            for row in range(200):
                way = int(whole[hi[row]]) - int(whole[lo[row]])
                self.assertEqual(found[row], way)
                self.assertEqual(floats[row], float(way) + (rest[hi[row]] - rest[lo[row]]))
            for part in (None, rest):
                with self.assertRaises(IndexError):
                    range_sums.growth_between(whole, np.array([0]), np.array([50]), part)

    def test_cells_are_added_to_others(self):
        rng = np.random.default_rng(6)
        target = rng.integers(-1, 9, 60)
        for cells in (rng.integers(-(2**60), 2**60, 60), rng.integers(-99, 99, 60) / 4):
            wanted = [sum(cells[target == n].tolist()) for n in range(10)]
            for way in both():
                if cells.dtype == np.int64:
                    wanted = [(total + 2**63) % 2**64 - 2**63 for total in wanted]
                found = range_sums.add_cells(cells, target, 10)
                self.assertEqual(found.tolist(), wanted, way)
                with self.assertRaises(IndexError):
                    range_sums.add_cells(cells[:1], np.array([10]), 10)

    def test_places_among_keys_in_order(self):
        rng = np.random.default_rng(9)
        for size in (0, 1, 7, 300):
            keys = np.sort(rng.integers(-50, 50, size))
            for asked in (rng.integers(-60, 60, 200), np.sort(rng.integers(-60, 60, 200)), keys):
                wanted = [sum(key < number for key in keys.tolist()) for number in asked.tolist()]
                for way in both():
                    self.assertEqual(range_sums.count_below(keys, asked).tolist(), wanted, way)
