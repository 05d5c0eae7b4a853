"""`dimension`: the table with one row per day and its attributes."""

from __future__ import annotations

from collections.abc import Sequence

from eptaro.core.calendar import Calendar
from eptaro.core.catalogue import DAY_ATTRIBUTES, calendar_attributes
from eptaro.core.days import DateLike
from eptaro.core.errors import CalendarError
from eptaro.core.monthcalendar import MonthCalendar
from eptaro.core.span import Span
from eptaro.core.table import Table


def dimension(
    first: DateLike,
    last: DateLike,
    *,
    calendars: Calendar | Sequence[Calendar] | None = None,
) -> Table:
    """Return the date dimension from `first` to `last`, both included: one row per day.

    Columns of the day come first (`date`, `date_key`, ...), then those of each calendar,
    prefixed with its name (`calendar_year`, `fiscal_quarter`, ...). Every column carries
    its description. Cost: one gather per column.

    Raises `DateError` for a bad or reversed span, `CalendarError` where two calendars
    bear one name.

    >>> table = dimension("2025-08-20", "2025-08-20")
    >>> table["date_key"].tolist(), table["calendar_quarter_label"].tolist()
    ([20250820], ['2025-Q3'])
    """
    span = Span(first, last)
    given = [calendars] if isinstance(calendars, Calendar) else list(calendars or ())
    given = given or [MonthCalendar()]
    names = [calendar.name for calendar in given]
    for name in names:
        if names.count(name) > 1:
            raise CalendarError(f"two calendars are called {name!r}; give each its own name")
    grids = [calendar.grid(span) for calendar in given]
    columns = [attribute.column(grids[0]) for attribute in DAY_ATTRIBUTES]
    for calendar, grid in zip(given, grids, strict=True):
        columns += [
            attribute.column(grid, f"{calendar.name}_")
            for attribute in calendar_attributes(calendar.levels)
        ]
    described = "; ".join(calendar.describe() for calendar in given)
    return Table(columns, {"verb": "dimension", "calendar": described, "coverage": str(span)})
