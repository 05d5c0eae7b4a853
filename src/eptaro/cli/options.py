"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from eptaro.core.levels import WEEKDAYS
from eptaro.core.monthcalendar import MonthCalendar

Command = TypeVar("Command", bound=Callable[..., Any])
FORMATS = ("table", "csv", "json", "markdown")


def together(*options: Callable[[Any], Any]) -> Callable[[Command], Command]:
    """Return one decorator that adds the options in the order given."""

    def add(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return add


calendar_options = together(
    click.option("--year-starts", metavar="MM-DD", default="01-01", show_default=True,
                 help="First day of the year; day 1 to 28."),
    click.option("--year-named", type=click.Choice(["start", "end"]), default="end",
                 show_default=True, help="Which end gives a year its name."),
    click.option("--prefix", default="", metavar="TEXT",
                 help="What labels begin with, such as FY."),
    click.option("--week-starts", type=click.Choice(WEEKDAYS), default="monday",
                 show_default=True, help="First day of the week."),
    click.option("--first-week-days", type=click.IntRange(1, 7), default=4, show_default=True,
                 help="Days that a year's first week needs in it (4 with monday: ISO 8601)."),
)  # fmt: skip

data_options = together(
    click.argument("files", metavar="FILE...", nargs=-1, required=True),
    click.option("--date", metavar="COLUMN", required=True, help="The column of dates."),
    click.option("--measure", "measures", metavar="SPEC", multiple=True, required=True,
                 help="What to calculate: name=how(column), such as revenue=sum(fare), "
                      "trips=count(), typical=mean(fare). May be given again."),
    click.option("--by", metavar="COLUMN", multiple=True,
                 help="A group column. May be given again."),
    click.option("--only", metavar="WHAT", multiple=True,
                 help="Narrow to a span (2025-05-06..2025-06-17), a period (2025-Q2) or a group "
                      "value (route=Norrow-Fenholm). May be given again."),
    click.option("--as-of", metavar="DATE", default="latest", show_default=True,
                 help="Look at nothing after this date: latest, today or a date."),
    click.option("--coverage", metavar="A..B", default=None,
                 help="The days the data speaks for, if more than its first to last date."),
)  # fmt: skip

output_options = together(
    click.option("--out", type=click.Path(path_type=Path), metavar="FILE", default=None,
                 help="Write to a file; the ending decides: .csv .parquet .json .md .arrow."),
    click.option("--format", "form", type=click.Choice(FORMATS), default="table",
                 show_default=True, help="How to print to standard output."),
    click.option("--rows", type=click.IntRange(2), metavar="N", default=None,
                 help="Print at most N rows of a table (in a terminal: 60)."),
)  # fmt: skip


def make_calendar(
    year_starts: str, year_named: str, prefix: str, week_starts: str, first_week_days: int
) -> MonthCalendar:
    """Return the calendar that the options describe, called fiscal unless it is the civil one."""
    name = "calendar" if year_starts == "01-01" and not prefix else "fiscal"
    return MonthCalendar(
        name, year_starts=year_starts, year_named=year_named, prefix=prefix,
        week_starts=week_starts, first_week_days=first_week_days,
    )  # fmt: skip
