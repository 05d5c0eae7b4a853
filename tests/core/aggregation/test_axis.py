"""The ranges of cells of spans of days, for one group after the other and for all at once."""

import unittest

import numpy as np

from eptaro.core.aggregation.axis import Axis


class Bounds(unittest.TestCase):
    """Random spans, some of them empty or outside."""

    def test_all_groups_at_once_equal_one_by_one(self):
        rng = np.random.default_rng(3)
        for groups, days in ((1, 1), (4, 9), (7, 30)):
            keys = np.flatnonzero(rng.random(groups * days) < 0.5)
            axis = Axis(groups, 100, days, keys if days == 30 else None)
            first, last = rng.integers(90, 110 + days, (2, 40))
            group = np.repeat(np.arange(groups), 40)
            wanted = axis.bounds(group, np.tile(first, groups), np.tile(last, groups))
            for one, two in zip(axis.bounds_of_all(first, last), wanted, strict=True):
                self.assertEqual(one.tolist(), two.tolist())
