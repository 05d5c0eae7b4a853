"""Rows that a mask keeps, and the different numbers among many: both ways equal plain lists."""

import unittest
from unittest import mock

import numpy as np

from eptaro.core.kernels import factorize, parallel
from eptaro.core.kernels import reading as masks
from eptaro.core.kernels.reading import RowMask
from tests.core.kernels.both import both, sliced


class Kept(unittest.TestCase):
    """Rows that a mask keeps: arrays of every width, whole and in slices."""

    def test_rows_and_places(self):
        rng = np.random.default_rng(5)
        for share in (0, 0.3, 1):
            mask = rng.random(301) < share
            there = np.flatnonzero(mask).tolist()
            arrays = (
                *(rng.integers(0, 250, 301).astype(width) for width in ("u1", "u2", "u4", "u8")),
                rng.random(301),
                rng.integers(0, 9, (301, 2))[:, 1].astype(np.int16),
                np.array(["a", None] * 150 + ["b"], object),
                rng.random(301).astype(np.longdouble),
            )
            for way in both():
                for cut in (masks.slices, lambda rows: sliced(rows, 3)):
                    with mock.patch.object(masks, "slices", cut):
                        keep = RowMask(mask)
                    self.assertEqual(keep.count, len(there))
                    self.assertEqual(keep.places.tolist(), there, way)
                    for values in arrays:
                        wanted = [values.tolist()[at] for at in there]
                        self.assertEqual(keep.of(values).tolist(), wanted, way)


class Gathered(unittest.TestCase):
    """Values at places, and repeated: as NumPy has them, whatever the number of slices."""

    def test_values_at_places(self):
        rng = np.random.default_rng(8)
        places = rng.integers(-50, 50, 400)
        values = (rng.random(50), rng.random(50) < 0.5, np.array([None, "a"] * 25, object))
        with mock.patch.multiple(parallel, _LEAST_SLICE=1, _AT_ONCE=7, WORKERS=3):
            for column in values:
                short = places[:50]
                for index in (short, short.astype(np.int32), short % 2 > 0, slice(3, 40, 2)):
                    wanted = column[index].tolist()
                    self.assertEqual(parallel.gather(column, index).tolist(), wanted)
                wanted = column[places].tolist()
                self.assertEqual(parallel.gather(column, places).tolist(), wanted)
                self.assertEqual(parallel.repeat(column, 3).tolist(), np.repeat(column, 3).tolist())
            with self.assertRaises(IndexError):
                parallel.gather(values[0], np.array([3, 50]))


class Occurring(unittest.TestCase):
    """Each way equals sets and lists, whole and in slices."""

    def test_numbers_of_a_span(self):
        rng = np.random.default_rng(10)
        for least, span in ((0, 1), (-40, 90), (2**62, 500), (-(2**63), 7)):
            values = least + rng.integers(0, span, 300)
            for way in both():
                for cut in (parallel.chunks, sliced):
                    with mock.patch.object(factorize, "chunks", cut):
                        found, places = factorize.factorize_narrow(values, least, span)
                    self.assertEqual(found.tolist(), sorted({*values.tolist()}), way)
                    self.assertEqual(found[places].tolist(), values.tolist())
                for wrong in (least - 1, least + span):
                    if -(2**63) <= wrong < 2**63:
                        with self.assertRaises(IndexError):
                            factorize.factorize_narrow(np.array([wrong]), least, span)

    def test_whether_all_occur_early(self):
        rng = np.random.default_rng(3)
        for span, rows in ((1, 8), (7, 4000), (60, 50_000), (900, 8000), (900, 900)):
            values = (5 + rng.integers(0, span, rows)).astype(rng.choice([np.int32, np.int64]))
            values[rows // 8 :] = 5
            every = {*values[: rows // 8].tolist()} == {*range(5, 5 + span)}
            self.assertEqual(factorize.occur_early(values, 5, span), every and span <= rows // 8)
        self.assertTrue(every is False and factorize.occur_early(np.arange(80) % 10, 0, 10))

    def test_pairs(self):
        rng = np.random.default_rng(1)
        one, two = (rng.integers(0, bound, 80).astype(np.int32) for bound in (6, 9))
        wanted = (one * 9 + two).tolist()
        for way in both():
            for cut in (parallel.chunks, sliced):
                with mock.patch.object(factorize, "chunks", cut):
                    met, places = factorize.factorize_pairs(one, two, 6, 9)
                self.assertEqual(met.tolist(), sorted({*wanted}), way)
                self.assertEqual(met[places].tolist(), wanted)
            for height, width in ((5, 9), (6, 8)):
                with self.assertRaises(IndexError):
                    factorize.factorize_pairs(one, two, height, width)

    def test_numbers_whether_marked_or_sorted(self):
        rng = np.random.default_rng(6)
        for bound, count in ((1, 3), (50, 1000), (1 << 16, 5), (1 << 20, 40), (1 << 40, 500)):
            keys = rng.integers(0, bound, count)
            for way in both():
                found, places = factorize.factorize(keys, bound)
                self.assertEqual(found.tolist(), sorted({*keys.tolist()}), way)
                np.testing.assert_array_equal(found[places], keys)
                with self.assertRaises(IndexError):
                    factorize.factorize(np.append(keys, bound), bound)
                none = factorize.factorize(np.zeros(0, np.int64), 0)
                self.assertEqual([part.tolist() for part in none], [[], []])
