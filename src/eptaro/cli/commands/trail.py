"""The `trail` command: rolling windows."""

from __future__ import annotations

import click

from eptaro.cli.commands.verb import EXAMPLE, Given, Reply, VerbCommand
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.core.verbs.trail import Edge, Keep
from eptaro.errors import QuestionError


@click.command(
    cls=VerbCommand, epilog=f"Example: eptaro trail {EXAMPLE} --back '6 months' --every month"
)
@data_options
@reading_options
@click.option(
    "--back",
    metavar="AMOUNT",
    required=True,
    help="How far the window reaches back: '7 days', '6 months', '10 workdays', "
    "'5 active days', '20 entries'.",
)
@click.option("--ahead", metavar="AMOUNT", default=None, help="How far it reaches on: '3 days'.")
@click.option(
    "--every",
    metavar="LEVEL",
    help="One row per day, week, month, ..., or per entry; unset, per date of the data.",
)
@click.option(
    "--far-edge",
    metavar="EDGE",
    default="open",
    show_default=True,
    help="closed: begin on the very day that lies so far back.",
)
@click.option("--centred", is_flag=True, help="Put the day in the middle of the window.")
@click.option(
    "--incomplete",
    metavar="HOW",
    default="keep",
    show_default=True,
    help="keep or blank values of windows beyond the coverage.",
)
@click.option(
    "--weights",
    metavar="W,W,...",
    default=None,
    help="Weights, oldest first, for a weighted moving average.",
)
@calendar_options
@answer_options
def trail(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    back: str,
    ahead: str | None,
    every: str | None,
    far_edge: Edge,
    centred: bool,
    incomplete: Keep,
    weights: str | None,
) -> Reply:
    """Roll windows over time: trailing days, months, workdays or transactions."""
    book = Given(data, reading, rules).book()
    table = book.trail(
        back,
        ahead=ahead,
        every=every,
        far_edge=far_edge,
        centred=centred,
        incomplete=incomplete,
        weights=None if weights is None else _numbers(weights),
        by=data.grouped(book),
        only=data.narrowed,
        as_of=data.as_of,
    )
    return Reply(book, table, output)


def _numbers(text: str) -> list[float]:
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise QuestionError(f"--weights {text!r} are not numbers; write 1,2,3") from None
