"""Compiled loops refuse what would lead them out of their arrays."""

import unittest

import numpy as np

from eptaro.core.kernels import dispatch

NONE, NO_DAYS, ONE = np.empty(0, np.int64), np.empty(0, np.int32), np.zeros(1, np.int64)


def ints(*numbers: int) -> np.ndarray:
    """Return whole numbers of 64 bits."""
    return np.array(numbers, np.int64)


@unittest.skipIf(dispatch.loops is None, "the compiled loops were not built here, or do not run")
class Refused(unittest.TestCase):
    """Each wrong argument by itself."""

    def refuses(self, error: type[Exception], loop, *arguments) -> None:
        with self.assertRaises(error, msg=(loop, arguments)):
            loop(*arguments)

    def test_directly(self):
        loops = dispatch.loops
        for lo, hi, k in ((0, 4, 0), (-1, 2, 0), (0, 3, 3), (0, 3, -1)):
            asked = ints(lo), ints(hi), ints(k), np.zeros((2, 1), np.int64)
            self.refuses(IndexError, loops.neighbours, np.arange(3), *asked)
        for code, end in ((7, 1), (-1, 1), (0, 2)):
            codes = np.array([code], np.int32)
            self.refuses(IndexError, loops.distinct_in, codes, ints(0), ints(end), 7, ONE.copy())

    def test_gathered(self):
        loops, whole, rest = dispatch.loops, np.arange(50), np.arange(50.0)
        self.refuses(ValueError, loops.bounds_of_all, NONE, 0, ints(1), ints(1, 2), 0, 3,
                     *np.empty((2, 4, 1), np.int64))  # fmt: skip
        self.refuses(ValueError, loops.edges_of_all, NONE, 0, ints(1), 0, 3, np.empty((4, 2), int))
        for wrong in (-1, 50):
            for lo, hi in ((0, wrong), (wrong, 0)):
                ends = ints(lo), ints(hi)
                self.refuses(IndexError, loops.between, whole, *ends, ONE.copy())
                self.refuses(IndexError, loops.between_floats, whole, rest, *ends, np.empty(1))
        self.refuses(IndexError, loops.scatter, ONE, ints(10), np.zeros(10, np.int64))

    def test_kept(self):
        loops, mask, three = dispatch.loops, np.array([1, 0, 1], np.uint8), np.arange(3)
        words = three.view(np.uint64)
        self.refuses(ValueError, loops.keep, words[1:], mask, words[:2].copy())
        self.refuses(ValueError, loops.keep, words, mask, words.copy())
        self.refuses(ValueError, loops.kept_places, mask, 0, three.copy())

    def test_marked(self):
        loops, seen, codes = dispatch.loops, np.zeros(6, np.uint8), np.zeros(1, np.int32)
        numbers, pair = np.zeros(6, np.int32), (np.array([1], np.int32), np.array([2], np.int32))
        for wrong in (3, 10):
            self.refuses(IndexError, loops.mark, ints(wrong), 4, seen)
            self.refuses(IndexError, loops.numbered, ints(wrong), 4, numbers, codes)
        self.refuses(ValueError, loops.numbered, ints(4, 5), 4, numbers, codes)
        for height, width in ((1, 6), (3, 2)):
            self.refuses(IndexError, loops.mark_pairs, *pair, height, width, seen)
            self.refuses(IndexError, loops.number_pairs, *pair, height, width, numbers, codes)
        for height, width in ((2, 4), (-2, -3), (2**40, 2**40)):
            self.refuses(ValueError, loops.mark_pairs, *pair, height, width, seen)
        self.refuses(ValueError, loops.mark_pairs, pair[0], pair[1][1:], 2, 3, seen)

    def test_time_stamps(self):
        loops = dispatch.loops
        for loop, kind in ((loops.days_of_stamps, np.int32), (loops.times_of_stamps, np.int64)):
            self.refuses(ValueError, loop, ints(1, 2), 86_400, np.zeros(1, kind))
            for units in (0, 7):
                self.refuses(ValueError, loop, ints(1), units, np.zeros(1, kind))

    def test_numbers_and_orders(self):
        words = np.zeros((5, 2), np.int64)
        self.refuses(ValueError, dispatch.loops.narrow, words, np.empty(0, np.uint8), ONE)
        self.refuses(ValueError, dispatch.loops.units, np.zeros(1), 1.0, 9.0, ints(1, 2))
        self.refuses(IndexError, dispatch.loops.distinct_keys, ints(3, 1), 3)

    def test_parted(self):
        loops, lows, out = dispatch.loops, np.empty(1, np.uint32), ONE.copy()
        rows = NO_DAYS, ints(5), 0, 1
        self.refuses(IndexError, loops.counted, *rows, 6, 1, np.zeros(2, np.int64))
        for cell, begins in ((9, (0, 0)), (2, (0, 1)), (2, (0, -1))):
            rows = NO_DAYS, ints(cell), 0, 1, 1, ints(*begins), np.arange(1)
            self.refuses(IndexError, loops.dealt, *rows, lows, out)
        rows = NO_DAYS, ints(1), 0, 1, 1, ints(0), np.arange(2)
        self.refuses(ValueError, loops.dealt, *rows, lows, out)
        for end, stop in ((2, 1), (-1, 1), (1, 2)):
            to = 0, stop, np.empty(1, np.int64), out
            self.refuses(IndexError, loops.settled, lows, out.copy(), ints(end), 1, *to)
        to = 0, 1, np.empty(2, np.int64), out
        self.refuses(ValueError, loops.settled, lows, out.copy(), ints(1), 1, *to)
        keys, places = np.empty(2, np.int64), np.empty(2, np.int32)
        self.refuses(ValueError, loops.runs, ints(3, 2), keys, places)
        self.refuses(ValueError, loops.runs, ints(3, 4), keys[:1], places[:1])
        room = np.empty(3, np.int64)
        self.refuses(ValueError, loops.merged, ints(5, 2), ints(3), room, room[:2], room[:1])
        self.refuses(ValueError, loops.merged, ints(2, 5), ints(3), room[:2], room[:2], room[:1])

    def test_windows(self):
        values, found = np.arange(3.0), np.zeros(2)
        least = dispatch.loops.window_extremes
        for lo, hi, error in (((0, 0), (1, 4), IndexError), ((0, -1), (1, 1), IndexError),
                              ((1, 0), (2, 2), ValueError), ((0, 1), (2, 1), ValueError)):  # fmt: skip
            self.refuses(error, least, values, ints(*lo), ints(*hi), True, found)
        self.refuses(ValueError, least, values, ints(0), ints(1), True, found)
        loops, numbers = dispatch.loops, np.array([0, 1, 1], np.int32)
        for bound, lo, hi, error in (
            (1, (0,), (1,), IndexError), (2, (0,), (4,), IndexError), (2, (-1,), (1,), IndexError),
            (2, (2,), (1,), IndexError), (2, (1, 0), (2, 2), ValueError), (2, (0, 0), (2, 1), ValueError),
        ):  # fmt: skip
            ends, zeros = (ints(*lo), ints(*hi)), np.zeros(len(lo), np.int64)
            self.refuses(error, loops.window_distinct, numbers, *ends, bound, zeros)
            room = np.zeros((2, len(lo)), np.int64)
            self.refuses(error, loops.window_neighbours, numbers, *ends, zeros, zeros, bound, room)
        asked = ints(0), ints(2), ints(2), ints(0), 2, np.zeros((2, 1), np.int64)
        self.refuses(IndexError, loops.window_neighbours, numbers, *asked)
