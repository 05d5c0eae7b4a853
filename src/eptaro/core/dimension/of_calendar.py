"""The attributes that every calendar gives a day, level by level."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache

import numpy as np

from eptaro.core.calendars.days import Ints, civil_date
from eptaro.core.calendars.labels import fill_template
from eptaro.core.calendars.period import Periods
from eptaro.core.dimension.attribute import (
    KEY,
    NONE,
    STANDARD,
    Attribute,
    Compute,
    Sheet,
    date_values,
    flag_values,
    integer_values,
    text_values,
)
from eptaro.core.results.column import Column


def number_of_period(level: str, take: Callable[[Periods], Ints]) -> Compute:
    """Return what gathers a number of each day's period. `take` returns `(n_periods,)`."""
    return lambda sheet: integer_values(take(sheet.periods(level))[sheet.places(level)])


def key_numbers(periods: Periods) -> Ints:
    """Return year and number of periods as one number."""
    if periods.level == "year":
        return periods.years
    return periods.years * (10 if periods.level in ("half", "quarter") else 100) + periods.numbers


def number_of_day(sheet: Sheet, level: str) -> Ints:
    """Return the number of each day in its period, from 1."""
    return sheet.days - sheet.periods(level).first[sheet.places(level)] + 1


def days_left(sheet: Sheet, level: str) -> Ints:
    """Return how many days follow in the period."""
    return sheet.periods(level).last[sheet.places(level)] - sheet.days


def workdays_in(sheet: Sheet, level: str) -> Column:
    """Return how many workdays each day's period has."""
    periods = sheet.periods(level)
    return integer_values(sheet.workdays.between(periods.first, periods.last)[sheet.places(level)])


def workday_of(sheet: Sheet, level: str) -> Column:
    """Number of the workday in its period; blank on a day that is no workday."""
    before = sheet.workdays.number(sheet.periods(level).first)[sheet.places(level)]
    return integer_values(sheet.workday_numbers - before + 1, sheet.is_workday)


def workdays_left(sheet: Sheet, level: str) -> Column:
    """Return how many workdays follow in the period."""
    after = sheet.workdays.number(sheet.periods(level).last + 1)[sheet.places(level)]
    return integer_values(after - sheet.workday_numbers - sheet.is_workday)


def names_of(level: str, *, short: bool) -> Compute:
    """Return what gathers localised names of periods."""

    def compute(sheet: Sheet) -> Column:
        return text_values(
            _period_names(sheet, sheet.periods(level), short=short), sheet.places(level)
        )

    return compute


def _period_names(sheet: Sheet, periods: Periods, *, short: bool) -> Sequence[str]:
    """Return localised names: of quarters, and of months that are civil ones; else labels."""
    names = sheet.names
    if periods.level == "quarter":
        years = [f"{sheet.calendar.prefix}{year}" for year in periods.years.tolist()]
        return [
            names.quarter_of(year, number, short=short)
            for year, number in zip(years, periods.numbers.tolist(), strict=True)
        ]
    year, month, day = civil_date(periods.first)
    ends = civil_date(periods.last + 1)
    if periods.level == "month" and (day == 1).all() and (ends[2] == 1).all():
        return [
            names.month_of(y, m, short=short)
            for y, m in zip(year.tolist(), month.tolist(), strict=True)
        ]
    return sheet.labels(periods.index, periods.level)  # type: ignore[return-value]


def labels_before(level: str, step: str) -> Compute:
    """Label of the period before, or of the same number a year back; blank where none is."""

    def compute(sheet: Sheet) -> Column:
        periods = sheet.periods(level)
        index, exists = sheet.calendar.counterparts(periods.index, level, -1, step)
        labels = sheet.labels(np.where(exists, index, periods.index), level)
        places = sheet.places(level)
        return text_values(labels, np.where(exists[places], places, -1))

    return compute


def place_in(inner: str, outer: str) -> Compute:
    """Number of a period within a wider one."""

    def compute(sheet: Sheet) -> Column:
        wide, narrow = sheet.periods(outer), sheet.periods(inner)
        first = sheet.calendar.index_of(wide.first, inner)
        return integer_values(narrow.index[sheet.places(inner)] - first[sheet.places(outer)] + 1)

    return compute


def cut_week(level: str) -> Compute:
    """Weeks that restart at 1 with the period and step on every first day of the week."""

    def compute(sheet: Sheet) -> Column:
        first = sheet.calendar.index_of(sheet.periods(level).first, "week")
        return integer_values(
            sheet.periods("week").index[sheet.places("week")] - first[sheet.places(level)] + 1
        )

    return compute


def labels_of(level: str) -> Compute:
    """Return what gathers the labels of periods."""

    def compute(sheet: Sheet) -> Column:
        return text_values(sheet.labels(sheet.periods(level).index, level), sheet.places(level))

    return compute


def _of_level(level: str) -> list[Attribute]:
    number = "The year, as named" if level == "year" else f"Number of the {level} within its year"
    own_days = STANDARD if level in ("year", "quarter", "month") else NONE
    take: Callable[[Periods], Ints] = (
        (lambda periods: periods.years) if level == "year" else (lambda periods: periods.numbers)
    )
    attributes = [
        Attribute(
            level,
            level,
            "integer",
            number,
            number_of_period(level, take),
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
            lambda sheet: date_values(sheet.periods(level).first[sheet.places(level)]),
            in_sets=STANDARD,
        ),
        Attribute(
            f"{level}_last",
            level,
            "date",
            f"Last day of the {level}",
            lambda sheet: date_values(sheet.periods(level).last[sheet.places(level)]),
            in_sets=STANDARD,
        ),
        Attribute(
            f"{level}_index",
            level,
            "integer",
            f"Running number of the {level}: neighbours differ by 1",
            number_of_period(level, lambda periods: periods.index),
            "number",
            STANDARD,
        ),
        Attribute(
            f"{level}_key",
            level,
            "integer",
            f"Year and number of the {level} as one number",
            number_of_period(level, key_numbers),
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
            number_of_period(level, lambda periods: periods.last - periods.first + 1),
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
            lambda sheet: integer_values(number_of_day(sheet, level)),
            in_sets=own_days,
        ),
        Attribute(
            f"days_left_in_{level}",
            level,
            "integer",
            f"Days that follow in the {level}",
            lambda sheet: integer_values(days_left(sheet, level)),
            "days",
        ),
        Attribute(
            f"is_{level}_first",
            level,
            "flag",
            f"Whether it is the first day of the {level}",
            lambda sheet: flag_values(number_of_day(sheet, level) == 1),
        ),
        Attribute(
            f"is_{level}_last",
            level,
            "flag",
            f"Whether it is the last day of the {level}",
            lambda sheet: flag_values(days_left(sheet, level) == 0),
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
        attributes.append(
            Attribute(
                f"{level}_label_last_year",
                level,
                "text",
                f"Label of the {level} of the same number a year back; blank where none is",
                labels_before(level, "year"),
            )
        )
    if level == "week":
        attributes.insert(
            1,
            Attribute(
                "week_year",
                "week",
                "integer",
                "The year that the week belongs to",
                number_of_period("week", lambda periods: periods.years),
                "number",
                STANDARD,
            ),
        )
    return attributes


def _shown_labels(level: str) -> Attribute:
    """Return the attribute of what a template of the calendar shows for a level."""

    def compute(sheet: Sheet) -> Column:
        texts = fill_template(sheet.calendar.shown[level], sheet.periods(level))
        return text_values(texts, sheet.places(level))

    text = f"What is shown for the {level}; its label sorts in time order"
    return Attribute(f"{level}_shown", level, "text", text, compute, in_sets=KEY)


@cache
def calendar_attributes(
    levels: tuple[str, ...], shown: tuple[str, ...] = ()
) -> tuple[Attribute, ...]:
    """Return the attributes of a calendar that offers some levels, of which some are `shown` by a
    template, before its name is added.
    """
    attributes = [entry for level in levels if level != "day" for entry in _of_level(level)]
    attributes += [_shown_labels(level) for level in levels if level in shown]
    for inner, outer in (("quarter", "half"), ("month", "quarter"), ("month", "half")):
        if inner in levels and outer in levels:
            attributes.append(
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
            attributes.append(
                Attribute(
                    f"week_in_{level}",
                    level,
                    "integer",
                    f"Cut week: 1 on the {level}'s first day, steps on each week's first day",
                    cut_week(level),
                    in_sets=STANDARD if level != "quarter" else NONE,
                )
            )
    return tuple(attributes)
