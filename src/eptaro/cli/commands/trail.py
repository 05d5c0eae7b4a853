"""The `trail` command: rolling windows."""

from __future__ import annotations

import click

from eptaro.cli.commands.verb import Given, Reply, VerbCommand
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options
from eptaro.core.verbs.queries import Edge, Keep
from eptaro.errors import QuestionError


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
@option(
    QUESTION,
    "--back",
    metavar="AMOUNT",
    required=True,
    help="How far the window reaches back: '7 days', '6 months', '10 workdays', "
    "'5 active days', '20 entries'.",
)
@option(
    QUESTION,
    "--ahead",
    rare=True,
    metavar="AMOUNT",
    default=None,
    help="How far the window reaches beyond the day: '3 days'.",
)
@option(
    QUESTION,
    "--every",
    metavar="LEVEL",
    help="One row per day, week, month, ..., or per entry; unset, per date of the data.",
)
@option(
    QUESTION,
    "--far-edge",
    rare=True,
    metavar="EDGE",
    default="open",
    show_default=True,
    help="open leaves out the day that lies exactly so far back, closed includes it.",
)
@option(
    QUESTION, "--centred", rare=True, is_flag=True, help="Put the day in the middle of the window."
)
@option(
    QUESTION,
    "--incomplete",
    rare=True,
    metavar="HOW",
    default="keep",
    show_default=True,
    help="keep or blank values of windows beyond the coverage.",
)
@option(
    QUESTION,
    "--weights",
    rare=True,
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
    """Show totals over rolling windows: the last days, months, workdays or transactions."""
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
