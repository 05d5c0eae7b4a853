"""A page and a workbook to send on, and one picture for the slide."""

from pathlib import Path

import eptaro as ep
from eptaro.demo.files import copy_shipped

file = copy_shipped(Path("ferry"))[0]
fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
book = ep.Daybook.read(
    file,
    date="sailed_on",
    by="route",
    measures=["revenue=sum(fare)", "trips=count()"],
    calendar=fiscal,
    formats={"revenue": ep.Format(sign="€", places=0)},
)
print(
    book.report(
        "ferries.html", title="The ferries this year", quality=ep.inspect(file, date="sailed_on")
    )
)
print(book.report("ferries.xlsx", years=3))
print(book.accumulate("year").plot("year-to-date.png"))
