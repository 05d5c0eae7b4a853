"""Eptaro: calendar and fiscal periods for dated transactions, correct to the cent.

>>> import eptaro as ep
>>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", year_named="end", prefix="FY")
>>> book = ep.Daybook({"on": ["2025-04-02", "2025-07-09"], "fare": [7, 5]}, date="on",
...                   measures="revenue=sum(fare)", calendar=fiscal)
>>> print(book.recap("quarter").column("period").to_list())
['FY2026-Q1', 'FY2026-Q2']
"""

from typing import TYPE_CHECKING, Any

from eptaro.core.calendar import Calendar
from eptaro.core.column import Column
from eptaro.core.daterules import DateRules
from eptaro.core.daybook import Daybook
from eptaro.core.errors import (
    CalendarError,
    DateError,
    EptaroError,
    InputError,
    MeasureError,
    QuestionError,
)
from eptaro.core.filerules import FileRules
from eptaro.core.formats import Format
from eptaro.core.grid import PeriodGrid
from eptaro.core.listedcalendar import ListedCalendar
from eptaro.core.measures import Measure
from eptaro.core.monthcalendar import MonthCalendar
from eptaro.core.owncalendars import OwnCalendars
from eptaro.core.period import Period
from eptaro.core.span import Span
from eptaro.core.table import Table
from eptaro.core.weekcalendar import WeekCalendar
from eptaro.core.workdays import Holiday, HolidaySet, Workdays
from eptaro.version import __version__
from eptaro.wiring import annotate, connect, inspect, read_config

__all__ = [
    "Calendar",
    "CalendarError",
    "Column",
    "DateError",
    "DateRules",
    "Daybook",
    "EptaroError",
    "FileRules",
    "Format",
    "Holiday",
    "HolidaySet",
    "InputError",
    "ListedCalendar",
    "Measure",
    "MeasureError",
    "MonthCalendar",
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
    "dimension",
    "inspect",
    "read_config",
    "trail_values",
]

connect()
del connect

if TYPE_CHECKING:
    from eptaro.core.dimension import dimension
    from eptaro.core.trace import Trace
    from eptaro.core.trailvalues import trail_values

_LATER = {"Trace": "trace", "dimension": "dimension", "trail_values": "trailvalues"}


def __getattr__(name: str) -> Any:
    """Load what few programs need when it is asked for, so that importing stays quick."""
    from importlib import import_module

    if name not in _LATER:
        raise AttributeError(f"module 'eptaro' has no attribute {name!r}")
    found = getattr(import_module(f"eptaro.core.{_LATER[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted(__all__)
