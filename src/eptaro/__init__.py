"""Eptaro: calendar and fiscal periods for dated transactions, correct to the cent.

>>> import eptaro as ep
>>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", year_named="end", prefix="FY")
>>> book = ep.Daybook({"on": ["2025-04-02", "2025-07-09"], "fare": [7, 5]}, date="on",
...                   measures="revenue=sum(fare)", calendar=fiscal)
>>> print(book.recap("quarter").column("period").to_list())
['FY2026-Q1', 'FY2026-Q2']
"""

from typing import TYPE_CHECKING, Any

from eptaro.errors import (
    CalendarError,
    DateError,
    EptaroError,
    ExpressionError,
    InputError,
    MeasureError,
    QuestionError,
)
from eptaro.version import __version__, build_info

__all__ = [
    "Across",
    "BookSet",
    "Calendar",
    "CalendarError",
    "Column",
    "DateError",
    "DateRules",
    "Daybook",
    "EptaroError",
    "ExpressionError",
    "FileRules",
    "Format",
    "Holiday",
    "HolidaySet",
    "InputError",
    "ListedCalendar",
    "Lookup",
    "Measure",
    "MeasureError",
    "MonthCalendar",
    "NumberRules",
    "OwnCalendars",
    "Period",
    "PeriodGrid",
    "QuestionError",
    "Span",
    "Table",
    "Trace",
    "WeekCalendar",
    "Workdays",
    "__version__",
    "annotate",
    "build_info",
    "dimension",
    "inspect",
    "read_config",
    "trail_values",
]

if TYPE_CHECKING:
    from eptaro.book_set import BookSet
    from eptaro.core.calendars.calendar import Calendar
    from eptaro.core.calendars.month import MonthCalendar
    from eptaro.core.calendars.period import Period, PeriodGrid
    from eptaro.core.calendars.span import Span
    from eptaro.core.calendars.week import WeekCalendar
    from eptaro.core.calendars.workdays import Holiday, Workdays
    from eptaro.core.measures.measure import Measure
    from eptaro.core.proof.trace import Trace
    from eptaro.core.query.own_calendars import OwnCalendars
    from eptaro.core.results.column import Column
    from eptaro.core.results.format import Format
    from eptaro.daybook import Daybook
    from eptaro.engines.annotate import annotate
    from eptaro.functions import dimension, inspect, trail_values
    from eptaro.inputs.config import read_config
    from eptaro.inputs.goals_and_coverage import ListedCalendar
    from eptaro.inputs.holidays import HolidaySet
    from eptaro.rules import Across, DateRules, FileRules, Lookup, NumberRules
    from eptaro.table import Table

_LATER = {
    "Across": "rules",
    "BookSet": "book_set",
    "Calendar": "core.calendars.calendar",
    "Column": "core.results.column",
    "DateRules": "rules",
    "Daybook": "daybook",
    "FileRules": "rules",
    "Format": "core.results.format",
    "Holiday": "core.calendars.workdays",
    "HolidaySet": "inputs.holidays",
    "ListedCalendar": "inputs.goals_and_coverage",
    "Lookup": "rules",
    "Measure": "core.measures.measure",
    "MonthCalendar": "core.calendars.month",
    "NumberRules": "rules",
    "OwnCalendars": "core.query.own_calendars",
    "Period": "core.calendars.period",
    "PeriodGrid": "core.calendars.period",
    "Span": "core.calendars.span",
    "Table": "table",
    "Trace": "core.proof.trace",
    "WeekCalendar": "core.calendars.week",
    "Workdays": "core.calendars.workdays",
    "annotate": "engines.annotate",
    "dimension": "functions",
    "inspect": "functions",
    "read_config": "inputs.config",
    "trail_values": "functions",
}


def __getattr__(name: str) -> Any:
    """Load what is asked for when it is, so that importing is quick and commands load little."""
    from importlib import import_module

    if name not in _LATER:
        raise AttributeError(f"module 'eptaro' has no attribute {name!r}")
    value = getattr(import_module(f"eptaro.{_LATER[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
