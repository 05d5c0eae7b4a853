"""Dates that are numbers: serials, Unix time, periods such as 202508, and the digits of days."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import LAST_DAY, Ints, civil_date, mondays, month_starts
from eptaro.core.calendars.grain import Grain, first_days
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.texts import DAY, NO_OFFSET, OUTSIDE, ParsedTexts, month_at
from eptaro.inputs.dates.zones import local_micros
from eptaro.inputs.files.chunks import to_numpy
from eptaro.option import setting
from eptaro.rules import DateRules

_SERIAL_EPOCH = {"1900": -25_569, "1904": -24_107}  # day ordinal of serial 0
_PER_UNIT = {"s": 1_000_000, "ms": 1_000, "us": 1, "ns": 0.001}


def _of_periods(
    values: NDArray[np.float64], whole: Ints, grain: Grain, pivot: int | None
) -> ParsedTexts:
    """Return the periods that numbers represent: 1987, 198703, 19871, or years and their parts.

    Where any number has decimals, those of four digits are years and their parts.
    """
    is_whole, short = values == whole, np.abs(values) < 10_000
    year, month = whole, np.ones(len(whole), np.int64)
    good = short & is_whole if grain == "year" else np.zeros(len(whole), bool)
    of_two = good & (whole >= 0) & (whole < 100)
    if pivot is not None:
        year = np.where(of_two, np.where(whole <= pivot, 2000, 1900) + whole, year)
    long = {"month": 100, "week": 100, "quarter": 10}.get(str(grain))
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
    if pivot is None:
        reason[of_two] = f"has a year of two digits; use {setting(DateRules, 'pivot')}"
    nothing = np.zeros(len(values), np.int64)
    return ParsedTexts(day, nothing, nothing + NO_OFFSET, reason)


NO_DAY = np.iinfo(np.int32).min


def days_of_digits(least: int, most: int, rules: DateRules) -> NDArray[np.int32] | None:
    """Return a table of the whole numbers from the least to the most: the day ordinal of those that
    are days written yyyymmdd, `NO_DAY` for the others. None where rules read numbers otherwise.

    The result is `(most - least + 1,) int32`.

    >>> days = days_of_digits(19_691_231, 19_700_102, DateRules())
    >>> days[days != NO_DAY].tolist()
    [-1, 0, 1]
    """
    if any((rules.unix, rules.serials, rules.blanks, rules.shift)):
        return None
    years = np.clip([least // 10_000, most // 10_000 + 1], 1000, 10_000)
    first, end = month_starts((years - 1970) * 12)
    days = np.arange(first, end)
    year, month, day = civil_date(days)
    places = year * 10_000 + month * 100 + day - least
    inside = (places >= 0) & (places <= most - least)
    table = np.full(most - least + 1, NO_DAY, np.int32)
    table[places[inside]] = days[inside]
    return table


_PERIODS = (("year", 1500, 2999), ("month", 150_001, 299_912))


def parse_numbers(values: NDArray[np.float64], whole: Ints, rules: DateRules) -> ParsedTexts:
    """Return what numbers say; `whole` holds the same exactly where they are whole."""
    size = len(values)
    reason = np.full(size, "", object)
    micros: Ints = np.zeros(size, np.int64)
    if rules.unix:
        per = _PER_UNIT[rules.unix]
        inside = np.abs(values) * per < (LAST_DAY + 1) * float(DAY)
        inside_words = np.where(inside, whole, 0)
        stamp = inside_words // 1_000 if rules.unix == "ns" else inside_words * int(per)
        if rules.zone:
            stamp = local_micros(pa.array(stamp, pa.timestamp("us", "UTC")), rules.zone)
        day, micros = stamp // DAY, stamp % DAY
        reason[~inside] = OUTSIDE
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
        return _of_periods(values, whole, rules.grain, rules.pivot)
    else:
        year, month, number = whole // 10_000, whole // 100 % 100, whole % 100
        inside = (year >= 1) & (year <= 9999) & (month >= 1) & (month <= 12) & (values == whole)
        months = np.where(inside, (year - 1970) * 12 + month - 1, 0)
        room = month_starts(months + 1) - month_starts(months)
        day = month_starts(months) + number - 1
        eight = (whole >= 10_000_101) & (whole <= 99_991_231) & (values == whole)
        exists = inside & (number >= 1) & (number <= room)
        serials, unix = setting(DateRules, "serials"), setting(DateRules, "unix")
        reason[~exists] = "does not exist in the calendar"
        reason[~eight] = f"is a number, but not yyyymmdd (use {serials} or {unix} if it is one)"
        dmy, mdy, ymd = (setting(DateRules, "order", order) for order in ("dmy", "mdy", "ymd"))
        year_last = (
            (whole >= 101_1900) & (whole <= 3112_2099) & np.isin(whole % 10_000 // 100, (19, 20))
        )
        of_two = (whole >= 100_000) & (whole <= 999_999) & (values == whole)
        reason[year_last & ~exists] = (
            f"is a number, but not yyyymmdd (does the day or the month come first? use {dmy} or "
            f"{mdy})"
        )
        reason[of_two] = (
            f"is a number, but not yyyymmdd (a year of two digits? use {dmy} or {mdy} or {ymd}, "
            f"with {setting(DateRules, 'pivot')})"
        )
        for period, least, most in _PERIODS:
            hit = ~eight & (whole >= least) & (whole <= most)
            grain = setting(DateRules, "grain", period)
            cure = f"a {period}? use {grain}; or use {serials} or {unix} if it is one"
            reason[hit] = f"is a number, but not yyyymmdd ({cure})"
    return ParsedTexts(day, micros, np.full(size, NO_OFFSET), reason)


def digits_in_order(column: pa.ChunkedArray, rules: DateRules) -> pa.ChunkedArray | None:
    """Return whole numbers as text where they are dates whose day, month and year follow each other
    in an order that the rules give or ask for; None where they are yyyymmdd or something else.

    Numbers have lost the zeros at the front.

    >>> column = pa.chunked_array([[5032025, 621]])
    >>> digits_in_order(column, DateRules(order="dmy")).to_pylist()
    ['5032025', '000621']
    """
    declared = rules.serials or rules.unix or rules.formats or rules.grain not in (None, "day")
    if rules.order is None or declared:
        return None
    values = pc.fill_null(column.cast(pa.float64(), safe=False), _A_DAY)
    if not pc.all(pc.equal(values, pc.floor(values))).as_py():
        return None
    whole = to_numpy(pc.fill_null(column, _A_DAY).cast(pa.int64(), safe=False))
    if (parse_numbers(to_numpy(values), whole, replace(rules, order=None)).reason == "").all():
        return None
    return pc.utf8_lpad(column.cast(pa.int64(), safe=False).cast(pa.string()), _LEAST_DIGITS, "0")


_LEAST_DIGITS = len("yymmdd")
_A_DAY = 2000_01_01  # in place of a blank
