"""The `dimension` command."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from eptaro.cli.options import calendar_options, make_calendar, output_options
from eptaro.cli.screen import deliver
from eptaro.core.dimension import dimension as make_dimension
from eptaro.core.monthcalendar import MonthCalendar


@click.command(
    epilog="Example: eptaro dimension --from 2022-04-01 --through 2027-03-31 "
    "--year-starts 04-01 --prefix FY --out days.parquet"
)
@click.option("--from", "first", metavar="DATE", required=True, help="First day.")
@click.option("--through", "last", metavar="DATE", required=True, help="Last day, included.")
@calendar_options
@output_options
def dimension(
    first: str, last: str, out: Path | None, form: str, rows: int | None, **options: Any
) -> None:
    """Build the date dimension: one row per day, for the calendar year and the fiscal year."""
    civil = MonthCalendar(
        week_starts=options["week_starts"], first_week_days=options["first_week_days"]
    )
    own = make_calendar(**options)
    calendars = [civil] if own == civil else [civil, own]
    deliver(make_dimension(first, last, calendars=calendars), out, form, rows)
