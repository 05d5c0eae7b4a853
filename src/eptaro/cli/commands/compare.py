"""The `compare` command: each period against a prior one."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.commands.verb import (
    EXAMPLE,
    Given,
    Reply,
    VerbCommand,
    goals_of,
    goals_option,
    pace_option,
    sort_option,
)
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.core.verbs.compare.counterparts import Match
from eptaro.core.verbs.compare.options import Align, Kind
from eptaro.core.verbs.goals import Pace


@click.command(
    cls=VerbCommand, epilog=f"Example: eptaro compare {EXAMPLE} --per quarter --to-date --by route"
)
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
    default=("1 year",),
    multiple=True,
    help="How far back the prior period lies: '1 quarter', '2 months'; several stand side by "
    "side.  [default: 1 year]",
)
@click.option(
    "--against",
    metavar="WHAT",
    default=None,
    help="A fixed period (FY2024) or span, instead of --back.",
)
@click.option(
    "--mean-of",
    type=click.IntRange(1),
    metavar="N",
    default=1,
    help="Compare with the mean of the N periods so far back.",
)
@click.option(
    "--trailing",
    metavar="AMOUNT",
    default=None,
    help="Compare the windows that end with each period: '12 months'.",
)
@click.option(
    "--every",
    metavar="LEVEL",
    default=None,
    help="With --to-date: one row per day (or week, ...) on the way.",
)
@click.option(
    "--effects",
    metavar="KIND",
    default=None,
    help="Split changes by the number of days, workdays or weekdays.",
)
@goals_option
@pace_option
@sort_option
@click.option(
    "--details", is_flag=True, help="Add changes per day, contributions, and who is new or lost."
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
    help="Which day is the counterpart: date, elapsed, weekday or workday.",
)
@click.option(
    "--align",
    metavar="HOW",
    default="place",
    show_default=True,
    help="restated: after a 53-week year, the days 52 weeks before.",
)
@click.option(
    "--periods",
    type=int,
    default=1,
    show_default=True,
    help="With --to-date: how many periods, each cut at its own counterpart.",
)
@calendar_options
@answer_options
def compare(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    per: str,
    back: tuple[str, ...],
    against: str | None,
    mean_of: int,
    trailing: str | None,
    every: str | None,
    effects: Kind | None,
    goals: Path | None,
    pace: Pace,
    sort: str | None,
    details: bool,
    to_date: bool,
    match: Match,
    align: Align,
    periods: int,
) -> Reply:
    """Set each period, or period to date, against a prior one."""
    book = Given(data, reading, rules).book()
    table = book.compare(
        per,
        back=back[0] if len(back) == 1 else back,
        against=against,
        mean_of=mean_of,
        to_date=to_date,
        match=match,
        align=align,
        periods=periods,
        every=every,
        trailing=trailing,
        details=details,
        effects=effects,
        goals=goals_of(goals),
        pace=pace,
        sort=sort,
        by=data.grouped(book),
        only=data.narrowed,
        as_of=data.as_of,
    )
    return Reply(book, table, output)
