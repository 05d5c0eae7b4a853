"""The `rhythm` command: how measures and values spread over hours, weekdays, months."""

from __future__ import annotations

from typing import Any

import click

from eptaro.cli.commands.verbs import EXAMPLE, prove_option, run_verb
from eptaro.cli.options import calendar_options, data_options, output_options, plot_options
from eptaro.cli.reading import reading_options


@click.command(epilog=f"Example: eptaro rhythm {EXAMPLE} --per weekday --across hour --wide")
@data_options
@reading_options
@click.option(
    "--per",
    metavar="ATTRIBUTE",
    default=None,
    help="hour, weekday, day of month, week of month, month, quarter, week, workday, holiday or "
    "kind of day; with --spread and --histogram also a level such as quarter.",
)
@click.option("--across", metavar="ATTRIBUTE", default=None, help="A second one, crossed with it.")
@click.option("--wide", is_flag=True, help="Set the values of --across side by side.")
@click.option(
    "--spread",
    metavar="COLUMN",
    default=None,
    help="Quartiles, whiskers and outliers of a column instead.",
)
@click.option(
    "--histogram",
    metavar="COLUMN",
    default=None,
    help="How many values of a column lie in each range instead.",
)
@click.option(
    "--bins",
    type=click.IntRange(1, 1000),
    metavar="N",
    default=20,
    show_default=True,
    help="About how many ranges.",
)
@calendar_options
@output_options
@plot_options
@prove_option
def rhythm(**given: Any) -> None:
    """Spread measures over the hours, weekdays, months, workdays that days bear."""
    spread, histogram, bins = (given.pop(name) for name in ("spread", "histogram", "bins"))
    if spread is None and histogram is None:
        if given["per"] is None:
            raise click.UsageError("Missing option '--per' (or --spread or --histogram).")
        run_verb("rhythm", given)
        return
    if given.pop("across") or given.pop("wide") or given["prove"] or (spread and histogram):
        raise click.UsageError("--spread and --histogram stand alone, with --per at most")
    column = spread or histogram
    given["measures"] = (*given["measures"], f'values_of_it=mean("{column}")')  # reads them
    given["column"] = column
    if histogram:
        given["bins"] = bins
    run_verb("spread" if spread else "histogram", given)
