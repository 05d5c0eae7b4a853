"""The attributes of a day that hold in every calendar."""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.days import Ints, add_months, as_dates, civil_date, month_starts
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.dimension.attribute import (
    KEY,
    STANDARD,
    Attribute,
    Compute,
    Sheet,
    date_key,
    date_values,
    flag_values,
    integer_values,
    text_values,
)
from eptaro.core.results.column import Column


def _holiday_texts(part: str) -> Compute:
    def compute(sheet: Sheet) -> Column:
        holidays = sheet.workdays.holidays
        by_day: dict[int, list[str]] = {}
        for day, holiday in zip(holidays.days.tolist(), holidays, strict=True):
            by_day.setdefault(day, []).append(str(getattr(holiday, part)))
        texts = ["; ".join(dict.fromkeys(parts)) for parts in by_day.values()]
        firsts = np.unique(holidays.days, return_index=True)[1]
        codes = np.where(
            sheet.holiday_places < 0, -1, np.searchsorted(firsts, sheet.holiday_places)
        )
        return text_values(texts or [""], codes)

    return compute


def _premium_flags(sheet: Sheet) -> Column:
    paid = {h.day for h in sheet.workdays.holidays if h.pay_premium}
    days = np.array(sorted(paid), "datetime64[D]").astype(np.int64)
    return flag_values(np.isin(sheet.days, days))


def _neighbour(step: int) -> Compute:
    def compute(sheet: Sheet) -> Column:
        if step > 0:
            return date_values(sheet.workdays.day_at(sheet.workday_numbers + sheet.is_workday))
        return date_values(sheet.workdays.day_at(sheet.workday_numbers - 1))

    return compute


WORKDAY_ATTRIBUTES: tuple[Attribute, ...] = (
    Attribute(
        "is_weekend",
        "day",
        "flag",
        "Whether the day falls on the weekend",
        lambda sheet: flag_values(sheet.workdays.is_weekend(sheet.days)),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_weekday",
        "day",
        "flag",
        "Whether the day does not fall on the weekend",
        lambda sheet: flag_values(~sheet.workdays.is_weekend(sheet.days)),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_workday",
        "day",
        "flag",
        "Whether it is neither weekend nor a closed holiday",
        lambda sheet: flag_values(sheet.is_workday),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_holiday",
        "day",
        "flag",
        "Whether the day is a holiday of any kind",
        lambda sheet: flag_values(sheet.holiday_places >= 0),
        in_sets=STANDARD,
    ),
    Attribute(
        "holiday_name",
        "day",
        "text",
        "Name of the holiday; several are joined by ;",
        _holiday_texts("name"),
    ),
    Attribute(
        "holiday_kind",
        "day",
        "text",
        "Kind of the holiday: public, regional, company, ...",
        _holiday_texts("kind"),
    ),
    Attribute(
        "is_pay_premium",
        "day",
        "flag",
        "Whether work on the holiday is paid a premium",
        _premium_flags,
    ),
    Attribute("next_workday", "day", "date", "The first workday after the day", _neighbour(1)),
    Attribute("previous_workday", "day", "date", "The last workday before the day", _neighbour(-1)),
)


_ISO = MonthCalendar()


def _is_leap(sheet: Sheet) -> Column:
    year = sheet.civil[0]
    return flag_values((year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0)))


def _iso_week(sheet: Sheet, part: int) -> Column:
    periods = _ISO.periods(sheet.span, "week")
    place = periods.position_of(sheet.days)
    return integer_values((periods.years, periods.numbers)[part][place])


def _iso_text(sheet: Sheet) -> Column:
    periods = _ISO.periods(sheet.span, "week")
    place = periods.position_of(sheet.days)
    ends = np.strings.add("-", np.arange(1, 8).astype(str))
    every = np.strings.add(periods.labels[:, None], ends[None, :]).ravel()
    return text_values(every, place * 7 + sheet.weekday)


def _weekday_in_month(sheet: Sheet) -> Column:
    return integer_values((sheet.civil[2] - 1) // 7 + 1)


def _is_last_weekday(sheet: Sheet) -> Column:
    return flag_values(civil_date(sheet.days + 7)[1] != sheet.civil[1])


def _days_in_month(sheet: Sheet) -> Column:
    months = (sheet.civil[0] - 1970) * 12 + sheet.civil[1] - 1
    return integer_values(month_starts(months + 1) - month_starts(months))


def _same_day_before(level: str, *, key: bool) -> Compute:
    """Return the same day of the month before, as a date or as a key."""

    def compute(sheet: Sheet) -> Column:
        days: Ints = sheet.days.astype(np.int64) - (7 if level == "week" else 364)
        if level in _MONTHS:
            days = add_months(sheet.days, -_MONTHS[level])[0]
        return date_key(days) if key else date_values(days)

    return compute


_MONTHS = {"month": 1, "quarter": 3, "year": 12}


_SAME = (
    ("same_day_last_month", "month", "The same day last month, clamped to its end"),
    (
        "same_day_last_quarter",
        "quarter",
        "The same day three months ago, clamped to its month's end",
    ),
    ("same_day_last_year", "year", "The same day last year; 28 February for the 29th"),
    ("same_weekday_last_week", "week", "The day 7 days ago"),
    ("same_weekday_last_year", "weekday", "The day 364 days (52 weeks) ago, on the same weekday"),
)


DAY_ATTRIBUTES: tuple[Attribute, ...] = (
    Attribute(
        "date", "day", "date", "The date", lambda sheet: date_values(sheet.days), in_sets=KEY
    ),
    Attribute(
        "date_key",
        "day",
        "integer",
        "The date as the number yyyymmdd",
        lambda sheet: date_key(sheet.days),
        "number",
        KEY,
    ),
    Attribute(
        "date_text",
        "day",
        "text",
        "The date as ISO 8601 text",
        lambda sheet: text_values(
            np.datetime_as_string(as_dates(sheet.days), unit="D"), np.arange(len(sheet.days))
        ),
    ),
    Attribute(
        "iso_week_date", "day", "text", "The date as an ISO 8601 week date, 2025-W34-3", _iso_text
    ),
    Attribute(
        "iso_week_year",
        "day",
        "integer",
        "The year that the ISO 8601 week belongs to",
        lambda sheet: _iso_week(sheet, 0),
        "number",
    ),
    Attribute(
        "iso_week",
        "day",
        "integer",
        "Number of the ISO 8601 week, 1 to 53",
        lambda sheet: _iso_week(sheet, 1),
    ),
    Attribute(
        "day_index",
        "day",
        "integer",
        "Running number of the day: days since 1970-01-01",
        lambda sheet: integer_values(sheet.days),
        "number",
    ),
    Attribute(
        "year_month_key",
        "day",
        "integer",
        "Civil year and month as the number yyyymm",
        lambda sheet: integer_values(sheet.civil[0] * 100 + sheet.civil[1]),
        "number",
        STANDARD,
    ),
    Attribute(
        "day_of_month",
        "day",
        "integer",
        "Civil day of the month, 1 to 31",
        lambda sheet: integer_values(sheet.civil[2]),
        in_sets=STANDARD,
    ),
    Attribute(
        "days_in_month", "day", "integer", "Length of the civil month", _days_in_month, "days"
    ),
    Attribute(
        "day_name",
        "day",
        "text",
        "Name of the weekday, in the locale asked for",
        lambda sheet: text_values(sheet.names.weekdays, sheet.weekday),
        in_sets=STANDARD,
    ),
    Attribute(
        "day_name_short",
        "day",
        "text",
        "Short name of the weekday",
        lambda sheet: text_values(sheet.names.weekdays_short, sheet.weekday),
    ),
    Attribute(
        "month_name",
        "day",
        "text",
        "Name of the civil month, in the locale asked for",
        lambda sheet: text_values(sheet.names.months, sheet.civil[1] - 1),
        in_sets=STANDARD,
    ),
    Attribute(
        "month_name_short",
        "day",
        "text",
        "Short name of the civil month",
        lambda sheet: text_values(sheet.names.months_short, sheet.civil[1] - 1),
    ),
    Attribute(
        "weekday_from_monday_1",
        "day",
        "integer",
        "Weekday, Monday = 1 to Sunday = 7",
        lambda sheet: integer_values(sheet.weekday + 1),
        in_sets=STANDARD,
    ),
    Attribute(
        "weekday_from_sunday_1",
        "day",
        "integer",
        "Weekday, Sunday = 1 to Saturday = 7",
        lambda sheet: integer_values((sheet.weekday + 1) % 7 + 1),
        in_sets=STANDARD,
    ),
    Attribute(
        "weekday_from_monday_0",
        "day",
        "integer",
        "Weekday, Monday = 0 to Sunday = 6",
        lambda sheet: integer_values(sheet.weekday),
        in_sets=STANDARD,
    ),
    Attribute(
        "weekday_in_month",
        "day",
        "integer",
        "Which of its weekday in the civil month: 3 on the third Thursday",
        _weekday_in_month,
    ),
    Attribute(
        "is_last_weekday_in_month",
        "day",
        "flag",
        "Whether it is the last of its weekday in the civil month",
        _is_last_weekday,
    ),
    *WORKDAY_ATTRIBUTES,
    Attribute(
        "is_leap_year",
        "day",
        "flag",
        "Whether the civil year has a 29 February",
        _is_leap,
        in_sets=STANDARD,
    ),
    Attribute(
        "decade",
        "day",
        "integer",
        "First year of the civil decade, 2020 for 2025",
        lambda sheet: integer_values(sheet.civil[0] // 10 * 10),
        "number",
    ),
    Attribute(
        "century",
        "day",
        "integer",
        "Number of the century, 21 for 2001 to 2100",
        lambda sheet: integer_values((sheet.civil[0] + 99) // 100),
        "number",
    ),
    *(
        Attribute(name, "day", "date", text, _same_day_before(level, key=False))
        for name, level, text in _SAME
    ),
    *(
        Attribute(
            f"{name}_key",
            "day",
            "integer",
            f"{text}, as yyyymmdd",
            _same_day_before(level, key=True),
            "number",
        )
        for name, level, text in _SAME
    ),
)
