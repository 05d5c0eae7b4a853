"""What measures, calendars, readers and verbs of one's own are made from.

The recipes are on the page on architecture. `CATALOGUE` has the calculations by name and `PLAIN`
their second way, by which proofs calculate; `KINDS` has the kinds of calendars that a book can
keep, and `READERS` the readers of files by ending.
"""

from __future__ import annotations

from eptaro.core.aggregation.cells import Plane
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.equalparts import EqualPartsCalendar
from eptaro.core.calendars.kinds import KINDS
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.measures.calculations import CATALOGUE, Calculation
from eptaro.core.proof.plain import PLAIN
from eptaro.core.query.lineage import Side, Value, ViewLineage
from eptaro.core.query.query import Query
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.inputs.files.opening import READERS
from eptaro.inputs.sources import Source, check_columns
from eptaro.record import record

__all__ = [
    "CATALOGUE",
    "KINDS",
    "PLAIN",
    "READERS",
    "Calculation",
    "Calendar",
    "Column",
    "EqualPartsCalendar",
    "Plane",
    "Query",
    "Result",
    "Side",
    "Source",
    "Value",
    "ViewLineage",
    "check_columns",
    "record",
    "running_sums",
]
