"""The `recap` command: a summary of each period."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from eptaro.cli.commands.verb import CommandInputs, Reply, VerbCommand, query_options
from eptaro.cli.data_options import DataOptions, data_options
from eptaro.cli.help import BOOKINGS, DEMO
from eptaro.cli.input_options import ReadingOptions, reading_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.core.verbs.queries import Recap


@click.command(
    cls=VerbCommand,
    examples=(
        ("Revenue and trips of each fiscal quarter", f"recap {DEMO} --per quarter"),
        (
            "Each month by route, routes side by side, with totals",
            f"recap {DEMO} --per month --by route --wide --only FY2026",
        ),
        (
            "From a file alone: years by class of fare, with shares",
            f"recap {BOOKINGS} --per year --by fare_class --shares",
        ),
    ),
)
@data_options
@reading_options
@query_options(Recap)
@calendar_options
@answer_options
def recap(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    given: Mapping[str, Any],
) -> Reply:
    """Summarise each period (grouped period summary), empty ones included."""
    return CommandInputs(data, reading, rules).answer(Recap, given, output)
