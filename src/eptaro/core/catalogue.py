"""The attribute catalogue: one declared entry per attribute of a day.

The columns of a dimension, their order, their documentation and the data dictionary all
come from here. An entry says how its values are gathered from a `PeriodGrid`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eptaro.core.column import Column, Kind
from eptaro.core.days import Flags, Ints, civil, weekday
from eptaro.core.grid import PeriodGrid
from eptaro.core.levels import WEEKDAYS

MONTHS = (
    *("January", "February", "March", "April", "May", "June", "July"),
    *("August", "September", "October", "November", "December"),
)

Compute = Callable[[PeriodGrid], Column]


@dataclass(frozen=True)
class Attribute:
    """One attribute: its name, the level it speaks of, and how it is gathered."""

    name: str
    level: str
    kind: Kind
    description: str
    compute: Compute
    unit: str = ""

    def column(self, grid: PeriodGrid, prefix: str = "") -> Column:
        """Return the attribute's column over the grid's days."""
        found = self.compute(grid)
        details = {"choices": found.choices, "unit": self.unit, "description": self.description}
        return Column.of(prefix + self.name, self.kind, found.data, found.valid, **details)


def _numbers(take: Callable[[PeriodGrid], Ints]) -> Compute:
    return lambda grid: Column.of("", "integer", take(grid))


def _flags(take: Callable[[PeriodGrid], Flags]) -> Compute:
    return lambda grid: Column.of("", "flag", take(grid))


def _names(words: tuple[str, ...], take: Callable[[PeriodGrid], Ints]) -> Compute:
    return lambda grid: Column.text("", np.array(words), take(grid))


def _date_key(grid: PeriodGrid) -> Ints:
    year, month, day = civil(grid.days)
    return year * 10_000 + month * 100 + day


def _is_leap(grid: PeriodGrid) -> Flags:
    year = civil(grid.days)[0]
    leap: Flags = (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))
    return leap


DAY_ATTRIBUTES = (
    Attribute("date", "day", "date", "The date",
              lambda grid: Column.of("", "date", grid.days)),
    Attribute("date_key", "day", "integer", "The date as the number yyyymmdd",
              _numbers(_date_key), "number"),
    Attribute("year_month_key", "day", "integer", "Civil year and month as the number yyyymm",
              _numbers(lambda grid: _date_key(grid) // 100), "number"),
    Attribute("day_of_month", "day", "integer", "Civil day of the month, 1 to 31",
              _numbers(lambda grid: civil(grid.days)[2])),
    Attribute("day_name", "day", "text", "Name of the weekday, in English",
              _names(tuple(day.title() for day in WEEKDAYS), lambda grid: weekday(grid.days))),
    Attribute("month_name", "day", "text", "Name of the civil month, in English",
              _names(MONTHS, lambda grid: civil(grid.days)[1] - 1)),
    Attribute("weekday_from_monday_1", "day", "integer", "Weekday, Monday = 1 to Sunday = 7",
              _numbers(lambda grid: weekday(grid.days) + 1)),
    Attribute("weekday_from_sunday_1", "day", "integer", "Weekday, Sunday = 1 to Saturday = 7",
              _numbers(lambda grid: (weekday(grid.days) + 1) % 7 + 1)),
    Attribute("weekday_from_monday_0", "day", "integer", "Weekday, Monday = 0 to Sunday = 6",
              _numbers(lambda grid: weekday(grid.days))),
    Attribute("is_weekend", "day", "flag", "Whether the day is a Saturday or Sunday",
              _flags(lambda grid: weekday(grid.days) >= 5)),
    Attribute("is_weekday", "day", "flag", "Whether the day is one of Monday to Friday",
              _flags(lambda grid: weekday(grid.days) < 5)),
    Attribute("is_leap_year", "day", "flag", "Whether the civil year has a 29 February",
              _flags(_is_leap)),
)  # fmt: skip


def _per_period(level: str, take: Callable[[PeriodGrid], Ints]) -> Compute:
    return _numbers(lambda grid: take(grid)[grid.places(level)])


def _label(level: str) -> Compute:
    return lambda grid: Column.text("", grid.periods(level).labels, grid.places(level))


def _edge(level: str, which: str) -> Compute:
    return lambda grid: Column.of(
        "", "date", getattr(grid.periods(level), which)[grid.places(level)]
    )


def _day_of(level: str) -> Compute:
    return _numbers(lambda grid: grid.days - grid.periods(level).first[grid.places(level)] + 1)


def _of_level(level: str) -> list[Attribute]:
    """Return the attributes that every level from year to week has."""
    if level == "year":
        number = Attribute(
            "year",
            "year",
            "integer",
            "The year, as named",
            _per_period("year", lambda grid: grid.periods("year").years),
            "number",
        )
    else:
        number = Attribute(
            level,
            level,
            "integer",
            f"Number of the {level} within its year",
            _per_period(level, lambda grid: grid.periods(level).numbers),
        )
    made = [number]
    if level == "week":
        made.append(
            Attribute(
                "week_year",
                "week",
                "integer",
                "The year that the week belongs to",
                _per_period("week", lambda grid: grid.periods("week").years),
                "number",
            )
        )
    return [
        *made,
        Attribute(f"{level}_label", level, "text", f"Label of the {level}, sorts in time order",
                  _label(level)),
        Attribute(f"{level}_first", level, "date", f"First day of the {level}",
                  _edge(level, "first")),
        Attribute(f"{level}_last", level, "date", f"Last day of the {level}",
                  _edge(level, "last")),
        Attribute(f"{level}_index", level, "integer",
                  f"Running number of the {level}: neighbours differ by 1",
                  _per_period(level, lambda grid: grid.periods(level).index), "number"),
    ]  # fmt: skip


_DAY_OF = [
    Attribute(f"day_of_{level}", level, "integer", f"Number of the day within its {level}, from 1",
              _day_of(level))
    for level in ("year", "quarter", "month")
]  # fmt: skip


def calendar_attributes(levels: tuple[str, ...]) -> list[Attribute]:
    """Return the attributes of one calendar, to be prefixed with its name."""
    cutting = [level for level in levels if level != "day"]
    made = [attribute for level in cutting for attribute in _of_level(level)]
    return made + [entry for entry in _DAY_OF if entry.level in levels]
