"""The days and times of a time zone."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import LAST_DAY, Ints, as_date
from eptaro.errors import DateError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.texts import DAY, MINUTE, NO_OFFSET

_TABLED = 24_472 * DAY  # 2037-01-01; zone files list changes up to there, then give a rule
_MICRO = dt.timedelta(microseconds=1)


def offsets_by_rule(utc: Ints, zone: str) -> Ints:
    """Return the offset from UTC, in microseconds, at moments given as microseconds of UTC.

    Each day is looked up once, and each moment of a day on which the clocks change.

    >>> july = 25_749 * DAY + 23 * 3_600_000_000  # 2040-07-01T23:00Z
    >>> int(offsets_by_rule(np.array([july]), "Europe/Lisbon")[0]) // 3_600_000_000
    1
    """
    from zoneinfo import ZoneInfo

    rules = ZoneInfo(zone)
    days, places = np.unique(utc // DAY, return_inverse=True)
    opens = np.array([_offset(rules, day * DAY) for day in days.tolist()], np.int64)
    closes = np.array([_offset(rules, (day + 1) * DAY - 1) for day in days.tolist()], np.int64)
    offsets: Ints = opens[places]
    changing = np.flatnonzero((opens != closes)[places])
    moments, which = np.unique(utc[changing], return_inverse=True)
    each = np.array([_offset(rules, moment) for moment in moments.tolist()], np.int64)
    offsets[changing] = each[which] if len(each) else 0
    return offsets


def _offset(rules: dt.tzinfo, utc: int) -> int:
    day, micros = divmod(utc, DAY)
    day = min(day, LAST_DAY - 2)  # so that the local time is a date as well
    moment = dt.datetime.combine(as_date(day), dt.time()) + dt.timedelta(microseconds=micros)
    offset = moment.replace(tzinfo=dt.UTC).astimezone(rules).utcoffset()
    assert offset is not None
    return offset // _MICRO


def to_zone(day: Ints, micros: Ints, offset: Ints, zone: str) -> tuple[Ints, Ints]:
    """Return day and time in a zone of what was given with a UTC offset; the rest stays."""
    utc = day * DAY + micros - np.where(offset == NO_OFFSET, 0, offset) * MINUTE
    local = local_micros(pa.array(utc, pa.timestamp("us", "UTC")), zone)
    moved = np.where(offset == NO_OFFSET, day * DAY + micros, local)
    return moved // DAY, moved % DAY


def local_micros(stamps: pa.Array, zone: str) -> Ints:
    """Return timestamps (with any zone) as microseconds of a zone's local time."""
    try:
        local = pc.local_timestamp(stamps.cast(pa.timestamp("us", zone), safe=False))
    except (pa.ArrowInvalid, pa.ArrowKeyError):
        raise DateError(
            f"zone={zone!r} is not a time zone; use a name such as Europe/Lisbon"
        ) from None
    micros: Ints = local.cast(pa.int64()).to_numpy(zero_copy_only=False)
    utc: Ints = (
        stamps.cast(pa.timestamp("us", "UTC"), safe=False)
        .cast(pa.int64())
        .to_numpy(zero_copy_only=False)
    )
    late = utc >= _TABLED
    if late.any():
        micros = np.where(late, utc, micros)
        micros[late] += offsets_by_rule(utc[late], zone)
    return micros
