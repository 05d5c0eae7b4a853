"""Rows in the order of their cells, and orders of numbers: both ways equal plain sorts."""

import unittest
from unittest import mock

import numpy as np

from eptaro.core.kernels import sorting
from eptaro.core.kernels.sorting import rank_rows, time_keys
from tests.core.kernels.both import both

NONE, NO_DAYS = np.empty(0, np.int64), np.empty(0, np.int32)


class Cells(unittest.TestCase):
    """Each equals a stable sort of the rows by their cells."""

    def in_order(self, *rows, workers, bits):
        sizes = {"WORKERS": workers, "_LEAST_SLICE": 1, "_PARTS_BITS": bits, "_WITHIN_BITS": 3}
        with mock.patch.multiple(sorting, **sizes):
            return sorting.in_cell_order(*rows)

    def test_rows_of_all_widths_and_cuts(self):
        rng = np.random.default_rng(3)
        for groups, width, rows in (
            (1, 1, 5),
            (3, 7, 400),
            (90_000, 50, 300),
            (1 << 30, 3000, 200),
        ):
            days = rng.integers(0, width, rows).astype(np.int32) - 5
            slots = rng.integers(0, groups, rows)
            cells = slots * width + days + 5
            wanted = sorted(range(rows), key=lambda row, cells=cells: (int(cells[row]), row))
            for values in (
                np.arange(rows, dtype=np.int32),
                rng.random(rows),
                rng.integers(-9, 9, rows),
            ):
                for way in both():
                    for workers, bits in ((1, 11), (3, 2), (2, 6)):
                        for made in (slots, slots.astype(np.int32)):
                            rows_ = days, made, -5, width, values, groups * width
                            found, moved = self.in_order(*rows_, workers=workers, bits=bits)
                            self.assertEqual(found.tolist(), cells[wanted].tolist(), way)
                            self.assertEqual(moved.tolist(), values[wanted].tolist())
                            self.assertEqual(moved.dtype, values.dtype)

    def test_days_or_slots_alone_and_no_rows(self):
        for way in both():
            for rows in ([2, 0, 2, 1], []):
                given = np.array(rows, np.int32)
                values = np.arange(len(rows))
                one = self.in_order(given + np.int32(3), NONE, 3, 1, values, 3, workers=2, bits=1)
                two = self.in_order(NO_DAYS, given, 0, 1, values, 3, workers=2, bits=1)
                for cells, moved in (one, two):
                    self.assertEqual(cells.tolist(), sorted(rows), way)
                    self.assertEqual(moved.tolist(), sorted(range(len(rows)), key=rows.__getitem__))

    def test_what_lies_outside_is_refused(self):
        for _ in both():
            for wrong in (-1, 6, 1 << 40):
                rows = NO_DAYS, np.array([3, wrong]), 0, 1, np.arange(2), 6
                with self.assertRaises(IndexError):
                    self.in_order(*rows, workers=1, bits=1)

    def test_different_cells(self):
        for way in both():
            for dtype in (np.int32, np.int64):
                found = sorting.distinct_sorted(np.array([3, 3, 5, 9, 9], dtype))
                told = [part.tolist() for part in found]
                self.assertEqual(told, [[3, 5, 9], [0, 0, 1, 2, 2]], way)
                self.assertEqual([part.dtype for part in found], [np.int64, np.int32])
                none = sorting.distinct_sorted(np.empty(0, dtype))
                self.assertEqual([part.tolist() for part in none], [[], []])

    def test_two_runs_are_joined(self):
        rng = np.random.default_rng(12)
        for sizes in ((0, 0), (5, 0), (0, 5), (40, 70)):
            one, two = (np.sort(rng.choice(100, size, replace=False)) for size in sizes)
            for way in both():
                found, mine, theirs = sorting.joined_runs(one, two)
                self.assertEqual(found.tolist(), sorted({*one.tolist(), *two.tolist()}), way)
                self.assertEqual(found[mine].tolist(), one.tolist())
                self.assertEqual(found[theirs].tolist(), two.tolist())


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
            for way in both():
                self.assertEqual(sorting.stable_order(keys).tolist(), wanted, (way, most))
        for _ in both():
            for some in ([], [4], [1, 1, 2], [2, 1]):
                wanted = sorted(range(len(some)), key=some.__getitem__)
                self.assertEqual(sorting.stable_order(np.array(some, np.int64)).tolist(), wanted)

    def test_ranks_and_moments(self):
        days, times = np.array([3, 1, 3, 1, 2, 1]), np.array([5, 9, 2, 9, 0, 1])
        self.assertEqual(rank_rows(times, days).tolist(), [5, 1, 4, 2, 3, 0])
        self.assertEqual(time_keys(days, times).tolist(), [4, 1, 3, 1, 2, 0])
        self.assertEqual(time_keys(days[:0], times[:0]).tolist(), [])
