"""The `rhythm` command: how measures and values spread over hours, weekdays, months."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from eptaro.cli.commands.verb import CommandInputs, Reply, VerbCommand, query_options
from eptaro.cli.data_options import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.input_options import ReadingOptions, reading_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.core.verbs.queries import Histogram, Rhythm, Spread


@click.command(
    cls=VerbCommand,
    examples=(
        ("Revenue per weekday and hour", f"rhythm {DEMO} --per weekday --across hour --wide"),
        ("Workdays, weekends and holidays by route", f"rhythm {DEMO} --per 'day type' --by route"),
        ("How fares spread over their range", f"rhythm {DEMO} --histogram fare"),
    ),
)
@data_options
@reading_options
@query_options(Rhythm, optional=["per"])
@option(
    QUESTION,
    "--spread",
    metavar="COLUMN",
    default=None,
    help="Instead: quartiles, whiskers and outliers of a column.",
)
@option(
    QUESTION,
    "--histogram",
    metavar="COLUMN",
    default=None,
    help="Instead: how many values of a column lie in each range.",
)
@query_options(Histogram, names=["bins"])
@calendar_options
@answer_options
def rhythm(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    spread: str | None,
    histogram: str | None,
    given: Mapping[str, Any],
) -> Reply:
    """Show the distribution of measures over hours, weekdays, months and day types."""
    inputs = CommandInputs(data, reading, rules)
    own = {name: value for name, value in given.items() if name != "bins"}
    if spread is not None or histogram is not None:
        if own["across"] or own["wide"] or output.prove or (spread and histogram):
            raise click.UsageError("--spread and --histogram can be combined with --per only")
        values = {"column": spread or histogram, "per": own["per"]}
        if spread is not None:
            return inputs.answer(Spread, values, output, (spread,))
        values["bins"] = given["bins"]
        return inputs.answer(Histogram, values, output, (histogram or "",))
    if own["per"] is None:
        raise click.UsageError("Missing option '--per' (or --spread or --histogram).")
    return inputs.answer(Rhythm, own, output)
