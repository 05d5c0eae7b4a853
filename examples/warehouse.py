"""Ten years of days with three calendars, in a database, extended a year later."""

import eptaro as ep

calendars = [
    ep.MonthCalendar(),
    ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ep.WeekCalendar("cafe", pattern="4-4-5", year_ends="01-31"),
]
url = "sqlite:///warehouse.db"  # or postgresql+psycopg://user@host/warehouse
days = ep.dimension("2016-01-01", "2025-12-31", calendars=calendars)
print(days.to_database(url, "days"))
longer = ep.dimension("2016-01-01", "2026-12-31", calendars=calendars)
print(longer.to_database(url, "days", mode="extend"))
