"""Time stamps to days and times: both ways equal `datetime`, which knows no nanoseconds."""

import datetime as dt
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eptaro.core.kernels.twins import stamps
from tests.core.kernels.both import both

EPOCH = dt.datetime(1970, 1, 1)
PER_DAY = {1: 86_400, 10**3: 86_400_000, 10**6: 86_400_000_000, 10**9: 86_400_000_000_000}


def split(module, stamps: list[int], per_day: int) -> tuple[np.ndarray, np.ndarray]:
    """Return days and times."""
    days, times = np.empty(len(stamps), np.int32), np.empty(len(stamps), np.int64)
    module.split(np.array(stamps, np.int64), per_day, days, times)
    return days, times


class Split(unittest.TestCase):
    """Days and the nanoseconds since they began."""

    @given(st.lists(st.datetimes(dt.datetime(1700, 1, 1), dt.datetime(2250, 1, 1)), max_size=9),
           st.sampled_from([*PER_DAY]))  # fmt: skip
    def test_equals_datetime(self, moments: list[dt.datetime], each: int):
        moments = [m.replace(microsecond=m.microsecond // 1000 * 1000) for m in moments]
        if each == 1:
            moments = [moment.replace(microsecond=0) for moment in moments]
        counted = [(m - EPOCH) // dt.timedelta(microseconds=1) * each // 10**6 for m in moments]
        for module in both(stamps, "stamps"):
            days, times = split(module, counted, PER_DAY[each])
            self.assertEqual(days.tolist(), [(m.date() - EPOCH.date()).days for m in moments])
            midnight = [dt.datetime.combine(m.date(), dt.time()) for m in moments]
            wanted = [
                (m - o) // dt.timedelta(microseconds=1) * 1000
                for m, o in zip(moments, midnight, strict=True)
            ]
            self.assertEqual(times.tolist(), wanted)

    def test_days_beyond_32_bits_become_the_outermost(self):
        for module in both(stamps, "stamps"):
            days, _ = split(module, [2**62, -(2**62), -1], 86_400)
            self.assertEqual(days.tolist(), [2**31 - 1, -(2**31), -1])
