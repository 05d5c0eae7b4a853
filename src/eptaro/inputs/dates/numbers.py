"""Dates given as numbers: yyyymmdd, spreadsheet serials, Unix time."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import LAST_DAY, Ints, month_starts
from eptaro.inputs.dates.texts import DAY, NO_OFFSET, Parsed, local_micros
from eptaro.rules.dates import DateRules

_SERIAL_EPOCH = {"1900": -25_569, "1904": -24_107}  # day ordinal of serial 0
_PER_UNIT = {"s": 1_000_000, "ms": 1_000, "us": 1, "ns": 0.001}


def parse_numbers(values: NDArray[np.float64], whole: Ints, rules: DateRules) -> Parsed:
    """Return what numbers say; `whole` holds the same exactly where they are whole."""
    size = len(values)
    reason = np.full(size, "", object)
    micros: Ints = np.zeros(size, np.int64)
    if rules.unix:
        per = _PER_UNIT[rules.unix]
        inside = np.abs(values) * per < (LAST_DAY + 1) * float(DAY)
        kept = np.where(inside, whole, 0)
        stamp = kept // 1_000 if rules.unix == "ns" else kept * int(per)
        if rules.zone:
            stamp = local_micros(pa.array(stamp, pa.timestamp("us", "UTC")), rules.zone)
        day, micros = stamp // DAY, stamp % DAY
        reason[~inside] = "lies outside the years 1 to 9999"
    elif rules.serials:
        floor = np.floor(values)
        inside = (floor >= 0) & (floor < 2_958_466)
        serial = np.where(inside, floor, 0).astype(np.int64)
        micros = np.where(inside, np.rint((values - floor) * DAY), 0).astype(np.int64)
        serial, micros = serial + micros // DAY, micros % DAY
        day = serial + _SERIAL_EPOCH[rules.serials]
        if rules.serials == "1900":
            day += serial < 60  # serials before the false 29 February 1900 lie a day later
            reason[serial == 60] = "is the false 29 February 1900 of the 1900 system"
            inside &= serial > 0
        reason[~inside] = f"is no serial of the {rules.serials} system"
    else:
        year, month, number = whole // 10_000, whole // 100 % 100, whole % 100
        inside = (year >= 1) & (year <= 9999) & (month >= 1) & (month <= 12) & (values == whole)
        months = np.where(inside, (year - 1970) * 12 + month - 1, 0)
        room = month_starts(months + 1) - month_starts(months)
        day = month_starts(months) + number - 1
        eight = (whole >= 10_000_101) & (whole <= 99_991_231) & (values == whole)
        exists = inside & (number >= 1) & (number <= room)
        reason[~exists] = "does not exist in the calendar"
        reason[~eight] = "is a number, but not yyyymmdd (say serials= or unix= if it is one)"
    return Parsed(day, micros, np.full(size, NO_OFFSET), reason)
