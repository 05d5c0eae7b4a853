"""The `compare` command: each period against a prior one."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.commands.verb import (
    Given,
    Reply,
    VerbCommand,
    goals_of,
    goals_option,
    pace_option,
    sort_option,
)
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.core.verbs.queries import Align, Effect, Match, Pace


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
@option(
    QUESTION,
    "--per",
    metavar="LEVEL",
    required=True,
    help="Compare years, halves, quarters, months, weeks or days.",
)
@option(
    QUESTION,
    "--back",
    metavar="AMOUNT",
    default=("1 year",),
    multiple=True,
    help="How far back the prior period lies: '1 quarter', '2 months'; several stand side by "
    "side.  [default: 1 year]",
)
@option(
    QUESTION,
    "--against",
    metavar="WHAT",
    default=None,
    help="A fixed period (FY2024) or span, instead of --back.",
)
@option(
    QUESTION,
    "--mean-of",
    rare=True,
    type=click.IntRange(1),
    metavar="N",
    default=1,
    help="Compare with the mean of the N periods so far back.",
)
@option(
    QUESTION,
    "--trailing",
    rare=True,
    metavar="AMOUNT",
    default=None,
    help="Compare the windows that end with each period: '12 months'.",
)
@option(
    QUESTION,
    "--every",
    metavar="LEVEL",
    default=None,
    help="With --to-date: one row per day (or week, ...) on the way.",
)
@option(
    QUESTION,
    "--effects",
    rare=True,
    metavar="KIND",
    default=None,
    help="Split changes by the number of days, workdays or weekdays.",
)
@goals_option
@pace_option
@sort_option
@option(
    QUESTION,
    "--details",
    is_flag=True,
    help="Add changes per day, contributions, and who is new or lost.",
)
@option(
    QUESTION,
    "--to-date",
    is_flag=True,
    help="Cut the period at the as-of date and the prior one at its counterpart.",
)
@option(
    QUESTION,
    "--match",
    metavar="RULE",
    default="date",
    show_default=True,
    help="Which prior day is the counterpart: by date, elapsed (as many days in), weekday (whole "
    "weeks before) or workday (as many workdays in).",
)
@option(
    QUESTION,
    "--align",
    rare=True,
    metavar="HOW",
    default="place",
    show_default=True,
    help="place: the period of the same number; restated: after a 53-week year, the days 52 "
    "weeks before.",
)
@option(
    QUESTION,
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
    effects: Effect | None,
    goals: Path | None,
    pace: Pace,
    sort: str | None,
    details: bool,
    to_date: bool,
    match: Match,
    align: Align,
    periods: int,
) -> Reply:
    """Compare each period, or period to date, with a prior one."""
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
