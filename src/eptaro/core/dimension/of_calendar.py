"""The attributes that every calendar gives a day, level by level."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.period import Periods
from eptaro.core.dimension.attribute import KEY, NONE, STANDARD, Attribute, date, flag, integer
from eptaro.core.dimension.of_level import (
    cut_week,
    day_of,
    days_left,
    key_numbers,
    labels_before,
    labels_of,
    names_of,
    numbered,
    place_in,
    workday_of,
    workdays_in,
    workdays_left,
)


def _of_level(level: str) -> list[Attribute]:
    number = "The year, as named" if level == "year" else f"Number of the {level} within its year"
    own_days = STANDARD if level in ("year", "quarter", "month") else NONE
    take: Callable[[Periods], Ints] = (
        (lambda periods: periods.years) if level == "year" else (lambda periods: periods.numbers)
    )
    made = [
        Attribute(
            level,
            level,
            "integer",
            number,
            numbered(level, take),
            "number" if level == "year" else "",
            STANDARD,
        ),
        Attribute(
            f"{level}_label",
            level,
            "text",
            f"Label of the {level}; sorts in time order",
            labels_of(level),
            in_sets=KEY,
        ),
        Attribute(
            f"{level}_first",
            level,
            "date",
            f"First day of the {level}",
            lambda sheet: date(sheet.periods(level).first[sheet.places(level)]),
            in_sets=STANDARD,
        ),
        Attribute(
            f"{level}_last",
            level,
            "date",
            f"Last day of the {level}",
            lambda sheet: date(sheet.periods(level).last[sheet.places(level)]),
            in_sets=STANDARD,
        ),
        Attribute(
            f"{level}_index",
            level,
            "integer",
            f"Running number of the {level}: neighbours differ by 1",
            numbered(level, lambda periods: periods.index),
            "number",
            STANDARD,
        ),
        Attribute(
            f"{level}_key",
            level,
            "integer",
            f"Year and number of the {level} as one number",
            numbered(level, key_numbers),
            "number",
        ),
        Attribute(
            f"{level}_name",
            level,
            "text",
            f"Name of the {level} in the locale asked for",
            names_of(level, short=False),
        ),
        Attribute(
            f"{level}_name_short",
            level,
            "text",
            f"Short name of the {level}",
            names_of(level, short=True),
        ),
        Attribute(
            f"{level}_days",
            level,
            "integer",
            f"Length of the {level}",
            numbered(level, lambda periods: periods.last - periods.first + 1),
            "days",
        ),
        Attribute(
            f"{level}_workdays",
            level,
            "integer",
            f"Workdays in the {level}",
            lambda sheet: workdays_in(sheet, level),
            "workdays",
        ),
        Attribute(
            f"day_of_{level}",
            level,
            "integer",
            f"Number of the day in its {level}, from 1",
            lambda sheet: integer(day_of(sheet, level)),
            in_sets=own_days,
        ),
        Attribute(
            f"days_left_in_{level}",
            level,
            "integer",
            f"Days that follow in the {level}",
            lambda sheet: integer(days_left(sheet, level)),
            "days",
        ),
        Attribute(
            f"is_{level}_first",
            level,
            "flag",
            f"Whether it is the first day of the {level}",
            lambda sheet: flag(day_of(sheet, level) == 1),
        ),
        Attribute(
            f"is_{level}_last",
            level,
            "flag",
            f"Whether it is the last day of the {level}",
            lambda sheet: flag(days_left(sheet, level) == 0),
        ),
        Attribute(
            f"workday_of_{level}",
            level,
            "integer",
            f"Number of the workday in its {level}; blank on other days",
            lambda sheet: workday_of(sheet, level),
        ),
        Attribute(
            f"workdays_left_in_{level}",
            level,
            "integer",
            f"Workdays that follow in the {level}",
            lambda sheet: workdays_left(sheet, level),
            "workdays",
        ),
        Attribute(
            f"{level}_label_before",
            level,
            "text",
            f"Label of the {level} before",
            labels_before(level, level),
        ),
    ]
    if level != "year":
        made.append(
            Attribute(
                f"{level}_label_last_year",
                level,
                "text",
                f"Label of the {level} of the same number a year back; blank where none is",
                labels_before(level, "year"),
            )
        )
    if level == "week":
        made.insert(
            1,
            Attribute(
                "week_year",
                "week",
                "integer",
                "The year that the week belongs to",
                numbered("week", lambda periods: periods.years),
                "number",
                STANDARD,
            ),
        )
    return made


@cache
def calendar_attributes(levels: tuple[str, ...]) -> tuple[Attribute, ...]:
    """Return the attributes of a calendar that offers some levels, before its name is added."""
    made = [entry for level in levels if level != "day" for entry in _of_level(level)]
    for inner, outer in (("quarter", "half"), ("month", "quarter"), ("month", "half")):
        if inner in levels and outer in levels:
            made.append(
                Attribute(
                    f"{inner}_of_{outer}",
                    inner,
                    "integer",
                    f"Number of the {inner} within its {outer}",
                    place_in(inner, outer),
                )
            )
    for level in ("year", "quarter", "month"):
        if level in levels and "week" in levels:
            made.append(
                Attribute(
                    f"week_in_{level}",
                    level,
                    "integer",
                    f"Cut week: 1 on the {level}'s first day, steps on each week's first day",
                    cut_week(level),
                    in_sets=STANDARD if level != "quarter" else NONE,
                )
            )
    return tuple(made)
