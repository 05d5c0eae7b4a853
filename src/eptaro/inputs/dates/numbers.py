"""Dates given as numbers: yyyymmdd, spreadsheet serials, Unix time."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import LAST_DAY, Ints, month_starts
from eptaro.core.calendars.grain import Grain, first_days
from eptaro.inputs.dates.periods import mondays, month_at
from eptaro.inputs.dates.texts import DAY, NO_OFFSET, Parsed, local_micros
from eptaro.rules.dates import DateRules

_SERIAL_EPOCH = {"1900": -25_569, "1904": -24_107}  # day ordinal of serial 0
_PER_UNIT = {"s": 1_000_000, "ms": 1_000, "us": 1, "ns": 0.001}


def _of_periods(values: NDArray[np.float64], whole: Ints, grain: Grain) -> Parsed:
    """Return the periods that numbers stand for: 1987, 198703, 19871, or years and their parts.

    Where any number has decimals, those of four digits are years and their parts.
    """
    is_whole, short = values == whole, np.abs(values) < 10_000
    year, month = whole, np.ones(len(whole), np.int64)
    good = short & is_whole if grain == "year" else np.zeros(len(whole), bool)
    long = {"month": 100, "week": 100, "quarter": 10}.get(grain)
    if long is not None:
        good = is_whole & (whole >= 1000 * long) & (whole < 10_000 * long)
        year, month = np.where(good, whole // long, whole), np.where(good, whole % long, month)
    if grain == "quarter":
        month = np.where(good, month * 3 - 2, month)
    if grain in ("month", "quarter") and not is_whole[short].all():
        month = np.where(short, month_at(values - np.floor(values)), month)
        year, good = np.where(short, np.floor(values).astype(np.int64), year), good | short
    if grain == "week":
        day, exists = mondays(year, month)
    else:
        exists = (year >= 1) & (year <= 9999) & (month >= 1) & (month <= 12)
        first = month_starts(np.where(exists, (year - 1970) * 12 + month - 1, 0))
        day = first_days(first, grain)
    reason = np.where(exists, "", "does not exist in the calendar").astype(object)
    reason[~good] = f"is no number of a {grain} (grain={grain})"
    nothing = np.zeros(len(values), np.int64)
    return Parsed(day, nothing, nothing + NO_OFFSET, reason)


_PERIODS = (
    ("a year? say grain=year; or say serials= or unix= if it is one", 1500, 2999),
    ("a month? say grain=month; or say serials= or unix= if it is one", 150_001, 299_912),
)


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
    elif rules.grain not in (None, "day") and not (np.abs(values) >= 10_000_000).any():
        return _of_periods(values, whole, rules.grain)
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
        for cure, least, most in _PERIODS:
            hit = ~eight & (whole >= least) & (whole <= most)
            reason[hit] = f"is a number, but not yyyymmdd ({cure})"
    return Parsed(day, micros, np.full(size, NO_OFFSET), reason)
