"""The `accumulate` command: running totals, and the card of one date."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from eptaro.cli.commands.verb import CommandInputs, Reply, VerbCommand, query_options
from eptaro.cli.data_options import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.input_options import ReadingOptions, reading_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.settings import Settings
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.verbs.queries import Accumulate
from eptaro.daybook import Daybook
from eptaro.table import Table


@click.command(
    cls=VerbCommand,
    examples=(
        (
            "Revenue of the fiscal year so far, day by day",
            f"accumulate {DEMO} --within year --rows 20",
        ),
        (
            "Each route this quarter, week by week",
            f"accumulate {DEMO} --within quarter --every week --by route --only FY2026-Q2",
        ),
        ("Week, month, quarter and year to date, on one card", f"accumulate {DEMO} --card"),
    ),
)
@data_options
@reading_options
@query_options(Accumulate, optional=["within"], names=["within"])
@option(
    QUESTION, "--card", is_flag=True, help="Show week, month, quarter and year to date instead."
)
@query_options(Accumulate, names=["goals", "pace", "every"])
@calendar_options
@answer_options
def accumulate(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    card: bool,
    given: Mapping[str, Any],
) -> Reply:
    """Show period-to-date (running) totals; days without transactions have a row too."""
    inputs = CommandInputs(data, reading, rules)
    if card:
        if output.prove:
            raise click.UsageError("--card cannot be combined with --prove")
        return Reply(*_card(inputs), output)
    if given["within"] is None:
        raise click.UsageError("Missing option '--within' (or --card).")
    return inputs.answer(Accumulate, given, output)


def _card(inputs: CommandInputs) -> tuple[Daybook, Table]:
    """Return the to-date values of the as-of date in every calendar at hand."""
    config = Settings(inputs.rules).config
    calendars = config.calendars if config else {}
    book, data = inputs.book(), inputs.data
    own = book.calendar
    every = list({c.name: c for c in (MonthCalendar(), own, *calendars.values())}.values())
    table = book.card(calendars=every, by=list(data.by), only=data.narrowed, as_of=data.as_of)
    return book, table
