"""The `trail` command: rolling windows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from eptaro.cli.commands.verb import CommandInputs, Reply, VerbCommand, query_options
from eptaro.cli.data_options import DataOptions, data_options
from eptaro.cli.help import DEMO
from eptaro.cli.input_options import ReadingOptions, reading_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.core.verbs.queries import Trail


@click.command(
    cls=VerbCommand,
    examples=(
        ("The last 6 months at each month's end", f"trail {DEMO} --back '6 months' --every month"),
        (
            "A mean over 28 days, from a file alone",
            "trail eptaro-demo/bookings.csv --date sailed_on --measure 'typical=mean(fare)' "
            "--back '28 days' --rows 20",
        ),
        (
            "The last 10 workdays by route, whole windows only",
            f"trail {DEMO} --back '10 workdays' --by route --incomplete blank --rows 20",
        ),
    ),
)
@data_options
@reading_options
@query_options(Trail)
@calendar_options
@answer_options
def trail(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    given: Mapping[str, Any],
) -> Reply:
    """Show rolling (trailing) windows: totals of the last days, months or transactions."""
    return CommandInputs(data, reading, rules).answer(Trail, given, output)
