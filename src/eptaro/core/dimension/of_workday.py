"""Attributes of a day that workdays and holidays give it."""

from __future__ import annotations

import numpy as np

from eptaro.core.dimension.attribute import STANDARD, Attribute, Compute, date, flag, words
from eptaro.core.dimension.sheet import Sheet
from eptaro.core.tables.column import Column


def _holiday(part: str) -> Compute:
    def compute(sheet: Sheet) -> Column:
        holidays = sheet.workdays.holidays
        joined: dict[int, list[str]] = {}
        for day, holiday in zip(holidays.days.tolist(), holidays, strict=True):
            joined.setdefault(day, []).append(str(getattr(holiday, part)))
        texts = ["; ".join(dict.fromkeys(parts)) for parts in joined.values()]
        firsts = np.unique(holidays.days, return_index=True)[1]
        codes = np.where(
            sheet.holiday_places < 0, -1, np.searchsorted(firsts, sheet.holiday_places)
        )
        return words(texts or [""], codes)

    return compute


def _premium(sheet: Sheet) -> Column:
    paid = {h.day for h in sheet.workdays.holidays if h.pay_premium}
    days = np.array(sorted(paid), "datetime64[D]").astype(np.int64)
    return flag(np.isin(sheet.days, days))


def _neighbour(step: int) -> Compute:
    def compute(sheet: Sheet) -> Column:
        if step > 0:
            return date(sheet.workdays.day_at(sheet.workday_numbers + sheet.is_workday))
        return date(sheet.workdays.day_at(sheet.workday_numbers - 1))

    return compute


WORKDAY_ATTRIBUTES: tuple[Attribute, ...] = (
    Attribute(
        "is_weekend",
        "day",
        "flag",
        "Whether the day falls on the weekend",
        lambda sheet: flag(sheet.workdays.is_weekend(sheet.days)),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_weekday",
        "day",
        "flag",
        "Whether the day does not fall on the weekend",
        lambda sheet: flag(~sheet.workdays.is_weekend(sheet.days)),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_workday",
        "day",
        "flag",
        "Whether it is neither weekend nor a closed holiday",
        lambda sheet: flag(sheet.is_workday),
        in_sets=STANDARD,
    ),
    Attribute(
        "is_holiday",
        "day",
        "flag",
        "Whether the day is a holiday of any kind",
        lambda sheet: flag(sheet.holiday_places >= 0),
        in_sets=STANDARD,
    ),
    Attribute(
        "holiday_name",
        "day",
        "text",
        "Name of the holiday; several are joined by ;",
        _holiday("name"),
    ),
    Attribute(
        "holiday_kind",
        "day",
        "text",
        "Kind of the holiday: public, regional, company, ...",
        _holiday("kind"),
    ),
    Attribute(
        "is_pay_premium", "day", "flag", "Whether work on the holiday is paid a premium", _premium
    ),
    Attribute("next_workday", "day", "date", "The first workday after the day", _neighbour(1)),
    Attribute("previous_workday", "day", "date", "The last workday before the day", _neighbour(-1)),
)
