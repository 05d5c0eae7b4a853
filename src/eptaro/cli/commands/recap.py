"""The `recap` command: a summary of each period."""

from __future__ import annotations

from typing import Literal

import click

from eptaro.cli.commands.verb import Given, Reply, VerbCommand, sort_option
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import BOOKINGS, DEMO, QUESTION, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options


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
@option(
    QUESTION,
    "--per",
    metavar="LEVEL",
    required=True,
    help="One row per year, half, quarter, month, week, day; per weekday, month of year, hour, "
    "workday, ...; or per chunk: '5 months from 2024-03-20'.",
)
@option(QUESTION, "--wide", is_flag=True, help="Set periods down and one group column across.")
@option(QUESTION, "--totals", is_flag=True, help="Add a total under each group.")
@option(
    QUESTION,
    "--subtotals",
    metavar="LEVEL",
    multiple=True,
    help="Add the periods of a wider level below their parts. May be given again.",
)
@option(
    QUESTION,
    "--top",
    type=int,
    metavar="N",
    default=None,
    help="Keep the N largest groups; the others are added up in one row.",
)
@option(
    QUESTION,
    "--top-within",
    rare=True,
    metavar="COLUMN",
    multiple=True,
    help="With --top: so many within each value of this group column. May be given again.",
)
@option(QUESTION, "--shares", is_flag=True, help="Add each row's share of all and of its period.")
@option(QUESTION, "--ranks", is_flag=True, help="Add ranks, 1 for the largest.")
@option(
    QUESTION,
    "--index",
    rare=True,
    metavar="PERIOD",
    default=None,
    help="Add each value as a percentage of the value in PERIOD.",
)
@sort_option
@option(QUESTION, "--every", metavar="entry", default=None, help="One row per transaction instead.")
@calendar_options
@answer_options
def recap(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    per: str,
    wide: bool,
    totals: bool,
    subtotals: tuple[str, ...],
    top: int | None,
    top_within: tuple[str, ...],
    shares: bool,
    ranks: bool,
    index: str | None,
    sort: str | None,
    every: Literal["entry"] | None,
) -> Reply:
    """Summarise each period: one row per group and period, quiet ones included."""
    book = Given(data, reading, rules).book()
    table = book.recap(
        per,
        by=data.grouped(book),
        only=data.narrowed,
        as_of=data.as_of,
        wide=wide,
        totals=totals,
        subtotals=subtotals,
        top=top,
        top_within=top_within,
        shares=shares,
        ranks=ranks,
        index=index,
        sort=sort,
        every=every,
    )
    return Reply(book, table, output)
