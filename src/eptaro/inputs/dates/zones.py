"""Time zones after the years that their files list, by the rule at the end of each file.

The rule (RFC 9636, section 3.3: the footer) says on which days of every later year the clocks
change; `zoneinfo` of the standard library follows it.
"""

from __future__ import annotations

import datetime as dt
from zoneinfo import ZoneInfo

import numpy as np

from eptaro.core.calendars.days import LAST_DAY, Ints, as_date

_DAY = 86_400_000_000
_MICRO = dt.timedelta(microseconds=1)


def offsets_by_rule(utc: Ints, zone: str) -> Ints:
    """Return the offset from UTC, in microseconds, at moments given as microseconds of UTC.

    Each day is looked up once, and each moment of a day on which the clocks change.

    >>> july = 25_749 * _DAY + 23 * 3_600_000_000  # 2040-07-01T23:00Z
    >>> int(offsets_by_rule(np.array([july]), "Europe/Lisbon")[0]) // 3_600_000_000
    1
    """
    rules = ZoneInfo(zone)
    days, places = np.unique(utc // _DAY, return_inverse=True)
    opens = np.array([_offset(rules, day * _DAY) for day in days.tolist()], np.int64)
    closes = np.array([_offset(rules, (day + 1) * _DAY - 1) for day in days.tolist()], np.int64)
    found: Ints = opens[places]
    changing = np.flatnonzero((opens != closes)[places])
    moments, which = np.unique(utc[changing], return_inverse=True)
    each = np.array([_offset(rules, moment) for moment in moments.tolist()], np.int64)
    found[changing] = each[which] if len(each) else 0
    return found


def _offset(rules: ZoneInfo, utc: int) -> int:
    day, micros = divmod(utc, _DAY)
    day = min(day, LAST_DAY - 2)  # so that the local time is a date as well
    moment = dt.datetime.combine(as_date(day), dt.time()) + dt.timedelta(microseconds=micros)
    offset = moment.replace(tzinfo=dt.UTC).astimezone(rules).utcoffset()
    assert offset is not None
    return offset // _MICRO
