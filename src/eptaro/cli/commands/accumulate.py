"""The `accumulate` command: running totals, and the card of one date."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.commands.verb import Given, Reply, VerbCommand, goals_of, goals_option, pace_option
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.cli.settings import Settings
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Pace
from eptaro.daybook import Daybook


@click.command(
    cls=VerbCommand,
    examples=(
        (
            "Revenue of the fiscal year so far, day by day",
            f"accumulate {DEMO} --within year --rows 20",
        ),
        (
            "Where each route stands this quarter, week by week",
            f"accumulate {DEMO} --within quarter --every week --by route --only FY2026-Q2",
        ),
        ("Week, month, quarter and year to date, on one card", f"accumulate {DEMO} --card"),
    ),
)
@data_options
@reading_options
@option(
    QUESTION,
    "--within",
    metavar="LEVEL",
    default=None,
    help="Where totals restart: a level such as quarter, a first day (2025-03-01..), or all.",
)
@option(
    QUESTION, "--card", is_flag=True, help="Show week, month, quarter and year to date instead."
)
@goals_option
@pace_option
@option(
    QUESTION,
    "--every",
    metavar="LEVEL",
    help="One row per day, week, month, ...; unset, per date of the data.",
)
@calendar_options
@answer_options
def accumulate(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    within: str | None,
    card: bool,
    goals: Path | None,
    pace: Pace,
    every: str | None,
) -> Reply:
    """Show running totals that restart at each period; quiet days have a row too."""
    asked = Given(data, reading, rules)
    if card:
        if output.prove:
            raise click.UsageError("--card cannot be combined with --prove")
        return Reply(*_card(asked), output)
    if within is None:
        raise click.UsageError("Missing option '--within' (or --card).")
    book = asked.book()
    table = book.accumulate(
        within,
        every=every,
        by=data.grouped(book),
        only=data.narrowed,
        as_of=data.as_of,
        goals=goals_of(goals),
        pace=pace,
    )
    return Reply(book, table, output)


def _card(asked: Given) -> tuple[Daybook, Table]:
    """Return the to-date values of the as-of date in every calendar at hand."""
    config = Settings(asked.rules).config
    calendars = config.calendars if config else {}
    book, data = asked.book(), asked.data
    own = book.calendar
    every = list({c.name: c for c in (MonthCalendar(), own, *calendars.values())}.values())
    table = book.card(calendars=every, by=list(data.by), only=data.narrowed, as_of=data.as_of)
    return book, table
