"""The `compare` command: each period against a prior one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from eptaro.cli.commands.verb import CommandInputs, Reply, VerbCommand, query_options
from eptaro.cli.data_options import DataOptions, data_options
from eptaro.cli.help import DEMO
from eptaro.cli.input_options import ReadingOptions, reading_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.core.verbs.queries import Compare


@click.command(
    cls=VerbCommand,
    examples=(
        (
            "This fiscal quarter to date against the same days a year before, by route",
            f"compare {DEMO} --per quarter --to-date --by route",
        ),
        (
            "Every finished month against the month before and the year before",
            f"compare {DEMO} --per month --back '1 month' --back '1 year' --only FY2026",
        ),
        (
            "A year against a fixed one, with who gained and who lost",
            f"compare {DEMO} --per year --against FY2023 --by route --details",
        ),
    ),
)
@data_options
@reading_options
@query_options(Compare)
@calendar_options
@answer_options
def compare(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    given: Mapping[str, Any],
) -> Reply:
    """Prior-period comparison, like for like, also to date."""
    return CommandInputs(data, reading, rules).answer(Compare, given, output)
