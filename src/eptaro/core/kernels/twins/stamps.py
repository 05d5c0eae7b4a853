"""Time stamps to days and times."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

DAY_NS = 86_400_000_000_000  # nanoseconds of a day


_INT32 = np.iinfo(np.int32)


def split(stamps: Ints, per_day: int, days: NDArray[np.int32], times: Ints) -> None:
    """Put the days of time stamps, and the nanoseconds since each day began, into arrays.

    Stamps are counted in units of which `per_day` make a day, which divides a day's nanoseconds.
    Days that 32 bits do not hold become the least or the largest that these do.

    >>> days, times = np.empty(2, np.int32), np.empty(2, np.int64)
    >>> split(np.array([-1, 86_400]), 86_400, days, times)
    >>> days.tolist(), times.tolist()
    ([-1, 1], [86399000000000, 0])
    """
    if not len(stamps) == len(days) == len(times):
        raise ValueError(f"{len(days)} days and {len(times)} times for {len(stamps)} stamps")
    found = stamps // per_day
    times[:] = (stamps - found * per_day) * (DAY_NS // per_day)
    days[:] = np.clip(found, _INT32.min, _INT32.max)
