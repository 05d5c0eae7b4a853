"""Rows that a mask keeps: arrays of every width, whole and in slices."""

import unittest
from unittest import mock

import numpy as np

from eptaro.core.kernels import kept
from eptaro.core.kernels.kept import Keeping
from eptaro.core.kernels.twins import keeping
from tests.core.kernels.both import both
from tests.core.kernels.test_marking import sliced


class Kept(unittest.TestCase):
    """Each way equals a list that leaves the others out."""

    def test_rows_and_places(self):
        rng = np.random.default_rng(5)
        for share in (0, 0.3, 1):
            mask = (rng.random(301) < share).astype(np.uint8) * 7  # what is not 0 is kept
            there = [at for at, mark in enumerate(mask.tolist()) if mark]
            for width in ("u1", "u2", "u4", "u8"):
                values = rng.integers(0, 250, 301).astype(width)
                wanted = [values.tolist()[at] for at in there]
                for module in both(keeping, "keeping"):
                    found = np.full(len(wanted), 251, width)
                    module.keep(values, mask, found)
                    self.assertEqual(found.tolist(), wanted, module)
                    places = np.empty(len(wanted), np.int64)
                    module.kept_places(mask, 40, places)
                    self.assertEqual((places - 40).tolist(), there, module)
                    with self.assertRaises(ValueError):
                        module.keep(values[1:], mask, found)
                    few, room = np.array([1, 0, 1], np.uint8), np.empty(3, width)
                    with self.assertRaises(ValueError):
                        module.keep(room, few, room)
                    with self.assertRaises(ValueError):
                        module.kept_places(few, 0, np.empty(3, np.int64))
            for cut in (kept.cut, lambda rows: sliced(rows, 3)):
                for values in (
                    rng.random(301),
                    rng.integers(0, 9, (301, 2))[:, 1].astype(np.int16),
                    np.array(["a", None] * 150 + ["b"], object),
                    rng.random(301).astype(np.longdouble),
                ):
                    with mock.patch.object(kept, "cut", cut):
                        keep = Keeping(mask != 0)
                    self.assertEqual(keep.count, len(there))
                    self.assertEqual(keep.of(values).tolist(), values[mask != 0].tolist())
                    self.assertEqual(keep.places.tolist(), there)
