"""The kinds of calendars, and calendars from their settings."""

from __future__ import annotations

from typing import Any

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.listed import ListedCalendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.week import WeekCalendar
from eptaro.errors import CalendarError, unknown

KINDS = {"month": MonthCalendar, "week": WeekCalendar, "listed": ListedCalendar}


def from_settings(settings: dict[str, Any]) -> Calendar:
    """Return the calendar whose `settings()` these are.

    >>> from_settings(MonthCalendar(year_starts="04-01").settings()).describe()
    'calendar: years from 1 April, named for their end, ISO 8601 weeks'
    """
    options = dict(settings)
    kind = options.pop("kind", None)
    if kind not in KINDS:
        raise CalendarError(unknown("kind of calendar", kind, KINDS))
    calendar: Calendar = KINDS[kind](**options)
    return calendar
