"""The commands that question transactions: recap, accumulate and compare."""

from __future__ import annotations

from typing import Any

import click

from eptaro.cli.options import calendar_options, data_options, output_options
from eptaro.cli.reading import reading_options
from eptaro.cli.screen import deliver
from eptaro.cli.settings import Settings
from eptaro.core.table import Table

_EXAMPLE = "eptaro-demo/bookings.csv --date sailed_on --measure 'revenue=sum(fare)'"


def _run(verb: str, given: dict[str, Any]) -> None:
    to = {name: given.pop(name) for name in ("out", "form", "rows")}
    book = Settings(given).book(given)
    given["by"], given["only"] = list(given["by"]), list(given["only"]) or None
    table: Table = getattr(book, verb)(**given)
    deliver(table, **to)


@click.command(epilog=f"Example: eptaro recap {_EXAMPLE} --per quarter --by route --prefix FY")
@data_options
@reading_options
@click.option(
    "--per",
    metavar="LEVEL",
    required=True,
    help="One row per year, half, quarter, month, week or day.",
)
@click.option("--wide", is_flag=True, help="Set periods down and one group column across.")
@click.option("--totals", is_flag=True, help="Add a total under each group.")
@calendar_options
@output_options
def recap(**given: Any) -> None:
    """Summarise each period: one row per group and period, quiet ones included."""
    _run("recap", given)


@click.command(
    epilog=f"Example: eptaro accumulate {_EXAMPLE} --within quarter --as-of 2025-08-20 --rows 20"
)
@data_options
@reading_options
@click.option(
    "--within",
    metavar="LEVEL",
    required=True,
    help="Restart at each period of this level, or run on since a date: 2025-03-01..",
)
@click.option("--every", metavar="LEVEL", default="day", show_default=True, help="One row per.")
@calendar_options
@output_options
def accumulate(**given: Any) -> None:
    """Run totals that restart at each period; every day has a row, quiet ones too."""
    _run("accumulate", given)


@click.command(epilog=f"Example: eptaro compare {_EXAMPLE} --per quarter --to-date --by route")
@data_options
@reading_options
@click.option(
    "--per",
    metavar="LEVEL",
    required=True,
    help="Compare years, halves, quarters, months, weeks or days.",
)
@click.option(
    "--back",
    metavar="AMOUNT",
    default="1 year",
    show_default=True,
    help="How far back the prior period lies: '1 year', '1 quarter', '2 months'.",
)
@click.option(
    "--to-date",
    is_flag=True,
    help="Cut the period at the as-of date and the prior one at its counterpart.",
)
@click.option(
    "--match",
    metavar="RULE",
    default="date",
    show_default=True,
    help="Which day is the counterpart: date, elapsed or weekday.",
)
@click.option(
    "--periods",
    type=int,
    default=1,
    show_default=True,
    help="With --to-date: how many periods, each cut at its own counterpart.",
)
@calendar_options
@output_options
def compare(**given: Any) -> None:
    """Set each period, or period to date, against a prior one."""
    _run("compare", given)
