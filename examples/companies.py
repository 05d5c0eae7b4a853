"""Three companies, each in its own year, and side by side in common months."""

from pathlib import Path

import eptaro as ep
from eptaro.demo.files import copy_shipped

copy_shipped(Path("ferry"))
own = ep.OwnCalendars(
    "company",
    {
        "Ferries": ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
        "Cafés": ep.WeekCalendar("cafe", pattern="4-4-5", year_ends="01-31", prefix="CY"),
        "Freight": ep.MonthCalendar("freight", year_starts="09-10", year_named="start"),
    },
)
book = ep.Daybook.read(
    "ferry/takings.csv", date="day", by="company", measures="takings=sum(takings)", calendar=own
)
print(book.compare("quarter", to_date=True, by="company"))
civil = book.with_calendar(ep.MonthCalendar())
print(civil.recap("month", by="company", wide=True, only="last 6 months"))
