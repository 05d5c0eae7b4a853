"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from eptaro.core.calendars.levels import WEEKDAYS

Command = TypeVar("Command", bound=Callable[..., Any])
ENGINES = ("stream", "local", "dask", "sql")
FORMATS = ("table", "csv", "json", "markdown")


def together(*options: Callable[[Any], Any]) -> Callable[[Command], Command]:
    """Return one decorator that adds the options in the order given."""

    def add(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return add


rule_options = together(
    click.option(
        "--config",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="An eptaro.toml with calendars, holidays and the data set.",
    ),
    click.option(
        "--year-starts",
        metavar="MM-DD",
        default=None,
        help="First day of the year; day 1 to 28.  [default: 01-01]",
    ),
    click.option(
        "--year-named",
        type=click.Choice(["start", "end"]),
        default=None,
        help="Which end gives a year its name.  [default: end]",
    ),
    click.option(
        "--prefix", default=None, metavar="TEXT", help="What labels begin with, such as FY."
    ),
    click.option(
        "--week-starts",
        type=click.Choice(WEEKDAYS),
        default=None,
        help="First day of the week.  [default: monday; sunday with --pattern]",
    ),
    click.option(
        "--first-week-days",
        type=click.IntRange(1, 7),
        default=None,
        help="Days that a year's first week needs in it.  [default: 4, ISO 8601]",
    ),
    click.option(
        "--pattern",
        metavar="WEEKS",
        default=None,
        help="Years of 52 or 53 weeks: 4-4-5, 4-5-4, 5-4-4 or 13x4.",
    ),
    click.option(
        "--year-ends",
        metavar="MM-DD",
        default=None,
        help="With --pattern: where years end.  [default: 01-31]",
    ),
    click.option(
        "--ends",
        type=click.Choice(["nearest", "last"]),
        default=None,
        help="With --pattern: on the weekday nearest to --year-ends, or last before.",
    ),
    click.option(
        "--long-month",
        type=int,
        default=None,
        metavar="N",
        help="With --pattern: the month that week 53 goes to.  [default: the last]",
    ),
)

calendar_options = together(
    click.option(
        "--calendar",
        metavar="NAME",
        default=None,
        help="A calendar of the --config file.  [default: the data set's]",
    ),
    rule_options,
)

data_options = together(
    click.argument("files", metavar="[FILE]...", nargs=-1),
    click.option("--date", metavar="COLUMN", default=None, help="The column of dates."),
    click.option(
        "--measure",
        "measures",
        metavar="SPEC",
        multiple=True,
        help="What to calculate: name=how(column), such as revenue=sum(fare), "
        "trips=count(), typical=mean(fare). May be given again.",
    ),
    click.option(
        "--by", metavar="COLUMN", multiple=True, help="A group column. May be given again."
    ),
    click.option(
        "--only",
        metavar="WHAT",
        multiple=True,
        help="Narrow to a span (2025-05-06..2025-06-17), a period (2025-Q2) or a group "
        "value (route=Norrow-Fenholm). May be given again.",
    ),
    click.option(
        "--as-of",
        metavar="DATE",
        default="latest",
        show_default=True,
        help="Look at nothing after this date: latest, today or a date.",
    ),
    click.option(
        "--coverage",
        metavar="A..B",
        default=None,
        help="The days the data speaks for, if more than its first to last date.",
    ),
    click.option(
        "--engine",
        type=click.Choice(ENGINES),
        default="stream",
        show_default=True,
        help="What folds: stream reads files piece by piece, local into memory, dask on a "
        "cluster, sql inside the database whose address stands for FILE.",
    ),
    click.option(
        "--client",
        metavar="ADDRESS",
        default=None,
        help="With dask: a scheduler.  [default: workers on this machine]",
    ),
    click.option(
        "--patience",
        type=click.FloatRange(1),
        metavar="SECONDS",
        default=60,
        show_default=True,
        help="With dask: how long a cluster may not answer, or have no workers.",
    ),
    click.option(
        "--table",
        "table_name",
        metavar="NAME",
        default=None,
        help="With sql: the table to fold (or --query).",
    ),
    click.option("--show-query", is_flag=True, help="With sql: print what the database is asked."),
)

output_options = together(
    click.option(
        "--out",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Write to a file; the ending decides: .csv .parquet .json .md .arrow.",
    ),
    click.option(
        "--format",
        "form",
        type=click.Choice(FORMATS),
        default="table",
        show_default=True,
        help="How to print to standard output.",
    ),
    click.option(
        "--rows",
        type=click.IntRange(2),
        metavar="N",
        default=None,
        help="Print at most N rows of a table (in a terminal: 60).",
    ),
)

plot_options = together(
    click.option(
        "--plot",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Draw the answer as well: .png, .svg or .pdf.",
    ),
    click.option(
        "--kind",
        metavar="KIND",
        default=None,
        help="With --plot: bars, lines, changes, steps, heat, sheet, ...",
    ),
)
