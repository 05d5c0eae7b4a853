"""Rows in the order of their cells."""

import unittest
from unittest import mock

import numpy as np

from eptaro.core.kernels import bycell
from eptaro.core.kernels.twins import parting
from tests.core.kernels.both import both

NONE, NO_DAYS = np.empty(0, np.int64), np.empty(0, np.int32)


class Order(unittest.TestCase):
    """Each equals a stable sort of the rows by their cells."""

    def in_order(self, module, days, slots, first, width, values, size, workers, bits):
        names = ("counted", "dealt", "settled")
        with mock.patch.multiple(
            bycell,
            WORKERS=workers,
            _LEAST_SLICE=1,
            _PARTS_BITS=bits,
            _WITHIN_BITS=3,
            **{name: getattr(module, name) for name in names},
        ):
            return bycell.in_cell_order(days, slots, first, width, values, size)

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
                for module in both(parting, "parting"):
                    for workers, bits in ((1, 11), (3, 2), (2, 6)):
                        for made in (slots, slots.astype(np.int32)):
                            found, moved = self.in_order(
                                module, days, made, -5, width, values, groups * width, workers, bits
                            )
                            self.assertEqual(found.tolist(), cells[wanted].tolist())
                            self.assertEqual(moved.tolist(), values[wanted].tolist())
                            self.assertEqual(moved.dtype, values.dtype)

    def test_days_or_slots_alone_and_no_rows(self):
        for module in both(parting, "parting"):
            for rows in ([2, 0, 2, 1], []):
                given = np.array(rows, np.int32)
                values = np.arange(len(rows))
                one = self.in_order(module, given + np.int32(3), NONE, 3, 1, values, 3, 2, 1)
                two = self.in_order(module, NO_DAYS, given, 0, 1, values, 3, 2, 1)
                for cells, moved in (one, two):
                    self.assertEqual(cells.tolist(), sorted(rows))
                    self.assertEqual(moved.tolist(), sorted(range(len(rows)), key=rows.__getitem__))

    def test_what_lies_outside_is_refused(self):
        for module in both(parting, "parting"):
            for wrong in (-1, 6, 1 << 40):
                with self.assertRaises(IndexError):
                    self.in_order(
                        module, NO_DAYS, np.array([3, wrong]), 0, 1, np.arange(2), 6, 1, 1
                    )
            with self.assertRaises(IndexError):
                module.counted(NO_DAYS, np.array([5]), 0, 1, 6, 1, np.zeros(2, np.int64))
            lows, out = np.empty(1, np.uint32), np.empty(1, np.int64)
            for cell, begins in ((9, [0, 0]), (2, [0, 1]), (2, [0, -1])):
                with self.assertRaises(IndexError):
                    module.dealt(
                        NO_DAYS,
                        np.array([cell]),
                        0,
                        1,
                        1,
                        np.array(begins),
                        np.arange(1),
                        lows,
                        out,
                    )
            with self.assertRaises(ValueError):
                module.dealt(
                    NO_DAYS, np.array([1]), 0, 1, 1, np.array([0]), np.arange(2), lows, out
                )
            for ends, stop in (([2], 1), ([-1], 1), ([1], 2)):
                with self.assertRaises(IndexError):
                    module.settled(
                        lows, out.copy(), np.array(ends), 1, 0, stop, np.empty(1, np.int64), out
                    )
            with self.assertRaises(ValueError):
                module.settled(lows, out.copy(), np.array([1]), 1, 0, 1, np.empty(2, np.int64), out)

    def test_runs_of_one_cell(self):
        for module in both(parting, "parting"):
            for dtype in (np.int32, np.int64):
                keys, places = np.empty(5, np.int64), np.empty(5, np.int32)
                count = module.runs(np.array([3, 3, 5, 9, 9], dtype), keys, places)
                told = (keys[:count].tolist(), places.tolist())
                self.assertEqual(told, ([3, 5, 9], [0, 0, 1, 2, 2]))
                self.assertEqual(module.runs(np.empty(0, dtype), keys[:0], places[:0]), 0)
                for wrong in (([3, 2], 2), ([3, 4], 1)):
                    given = np.array(wrong[0], dtype)
                    with self.assertRaises(ValueError):
                        module.runs(given, keys[: wrong[1]], places[: wrong[1]])

    def test_two_runs_are_merged(self):
        rng = np.random.default_rng(12)
        for sizes in ((0, 0), (5, 0), (0, 5), (40, 70)):
            one, two = (np.sort(rng.choice(100, size, replace=False)) for size in sizes)
            wanted = sorted({*one.tolist(), *two.tolist()})
            for module in both(parting, "parting"):
                found, mine, theirs = (np.empty(size, np.int64) for size in (sum(sizes), *sizes))
                count = module.merged(one, two, found, mine, theirs)
                self.assertEqual(found[:count].tolist(), wanted)
                self.assertEqual(found[mine].tolist(), one.tolist())
                self.assertEqual(found[theirs].tolist(), two.tolist())
                if len(one) > 1:
                    with self.assertRaises(ValueError):
                        module.merged(one[::-1].copy(), two, found, mine, theirs)
                with self.assertRaises(ValueError):
                    module.merged(one, two, np.empty(sum(sizes) + 1, np.int64), mine, theirs)
