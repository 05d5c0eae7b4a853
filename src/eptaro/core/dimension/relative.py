"""Attributes that relate each day to the as-of date; asked for anew, never edited."""

from __future__ import annotations

from functools import cache

import numpy as np

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.dimension.attribute import Attribute, Compute, flag, integer
from eptaro.core.dimension.sheet import Sheet
from eptaro.core.tables.column import Column


def _as_of(sheet: Sheet) -> Ints:
    return np.array([sheet.span.lo if sheet.as_of is None else sheet.as_of])


def _away(sheet: Sheet, level: str) -> Ints:
    """Whole periods from the one that holds the as-of date, per period of the sheet."""
    return sheet.periods(level).index - sheet.calendar.index_of(_as_of(sheet), level)


def _offset(level: str) -> Compute:
    return lambda sheet: integer(_away(sheet, level)[sheet.places(level)])


def _is_current(level: str) -> Compute:
    return lambda sheet: flag((_away(sheet, level) == 0)[sheet.places(level)])


def _is_to_date(level: str) -> Compute:
    """Whether a day comes no later in its period than the as-of date in its own.

    The cut in each period is the counterpart of the as-of date there, as `compare` to
    date would set it.
    """

    def compute(sheet: Sheet) -> Column:
        periods, today = sheet.periods(level), _as_of(sheet)
        now = sheet.calendar.index_of(today, level)
        begin = sheet.calendar.first_days(now, level)
        if level == "week":
            cut = periods.first + (today - begin)
        else:
            steps = periods.index - now
            reach = _reachable(sheet, steps, level)
            moved = sheet.calendar.move_spans(
                np.repeat(begin, len(steps)),
                np.repeat(today, len(steps)),
                np.where(reach, steps, 0),
                level,
            )
            cut = np.where(reach, moved.last, periods.last)
        return flag(sheet.days <= cut[sheet.places(level)])

    return compute


def _reachable(sheet: Sheet, steps: Ints, level: str) -> Flags:
    now = sheet.calendar.index_of(_as_of(sheet), level)
    _, exists = sheet.calendar.counterparts(np.repeat(now, len(steps)), level, steps, level)
    return exists


DAY_RELATIVE = (
    Attribute(
        "days_from_as_of",
        "day",
        "integer",
        "Days from the as-of date; 0 is that day",
        lambda sheet: integer(sheet.days - _as_of(sheet)),
        "days",
    ),
    Attribute(
        "is_as_of",
        "day",
        "flag",
        "Whether it is the as-of date",
        lambda sheet: flag(sheet.days == _as_of(sheet)),
    ),
    Attribute(
        "is_past",
        "day",
        "flag",
        "Whether the day lies before the as-of date",
        lambda sheet: flag(sheet.days < _as_of(sheet)),
    ),
)


@cache
def relative_attributes(levels: tuple[str, ...]) -> tuple[Attribute, ...]:
    """Return the relative attributes of a calendar that offers some levels."""
    made = []
    for level in levels:
        if level == "day":
            continue
        made += [
            Attribute(
                f"{level}s_from_as_of" if level != "half" else "halves_from_as_of",
                level,
                "integer",
                f"Whole {level}s from the current one, 0; negative is past",
                _offset(level),
            ),
            Attribute(
                f"is_current_{level}",
                level,
                "flag",
                f"Whether the {level} holds the as-of date",
                _is_current(level),
            ),
            Attribute(
                f"is_{level}_to_date",
                level,
                "flag",
                f"Whether the day comes no later in its {level} than the as-of date did",
                _is_to_date(level),
            ),
        ]
    return tuple(made)
