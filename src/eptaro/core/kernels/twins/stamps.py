"""Time stamps to days and times."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

DAY_NS = 86_400_000_000_000  # nanoseconds of a day


_INT32 = np.iinfo(np.int32)


def split(stamps: Ints, per_day: int) -> tuple[NDArray[np.int32], Ints]:
    """Return the days of time stamps, and the nanoseconds since each day began.

    Stamps are counted in units of which `per_day` make a day, which divides a day's nanoseconds.
    Days that 32 bits do not hold become the least or the largest that these do.

    >>> [part.tolist() for part in split(np.array([-1, 86_400]), 86_400)]
    [[-1, 1], [86399000000000, 0]]
    """
    days = stamps // per_day
    times = (stamps - days * per_day) * (DAY_NS // per_day)
    return np.clip(days, _INT32.min, _INT32.max).astype(np.int32), times
