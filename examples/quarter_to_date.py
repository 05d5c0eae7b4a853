"""Are we up or down this fiscal quarter, against exactly which days, and can I prove it?"""

from pathlib import Path

import eptaro as ep
from eptaro.demo.files import copy_shipped

file = copy_shipped(Path("ferry"))[0]  # put the path of your own file here

fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
book = ep.Daybook.read(
    file, date="sailed_on", by="route", measures="revenue=sum(fare)", calendar=fiscal
)
table = book.compare("quarter", to_date=True, by="route", details=True, sort="-revenue_change")
print(table)
print(table.trace(0, "revenue_change"))
print(f"{book.prove(table)} numbers were made again from their transactions")
