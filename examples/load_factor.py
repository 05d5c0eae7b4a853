"""How full were the boats this fiscal quarter, by the bookings and the log of voyages?"""

from pathlib import Path

import eptaro as ep
from eptaro.demo.files import copy_shipped

folder = Path("ferry")  # put the folder of your own files here
copy_shipped(folder)

fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
bookings = ep.Daybook.read(
    folder / "bookings.csv",
    date="sailed_on",
    by="route",
    measures=["revenue=sum(fare)", "passengers=sum(passengers)"],
    calendar=fiscal,
)
voyages = ep.Daybook.read(
    folder / "voyages.csv",
    date="sailed",
    by="line",
    measures=["trips=count()", "seats=sum(seats)", "fuel=sum(fuel_litres)"],
    calendar=fiscal,
)
both = ep.BookSet(
    {"bookings": bookings, "voyages": voyages},
    measures=[
        "load=bookings.passengers / voyages.seats",
        "revenue_per_voyage=revenue / trips",
        "fuel_per_passenger=fuel / passengers",
    ],
    names={"voyages": {"route": "line"}},
    formats={"load": ep.Format(percent=True, places=1), "fuel_per_passenger": ep.Format(places=2)},
)
table = both.compare("quarter", to_date=True, by="route", measures=["load", "fuel_per_passenger"])
print(table)
print(table.trace(0, "load_change"))
print(f"{both.prove(table)} numbers were made again from their transactions")
