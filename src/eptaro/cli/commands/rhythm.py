"""The `rhythm` command: how measures and values spread over hours, weekdays, months."""

from __future__ import annotations

import click

from eptaro.cli.commands.verb import Given, Reply, VerbCommand
from eptaro.cli.data import DataOptions, data_options
from eptaro.cli.help import DEMO, QUESTION, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, answer_options, calendar_options
from eptaro.cli.reading import ReadingOptions, reading_options


@click.command(
    cls=VerbCommand,
    examples=(
        ("Revenue per weekday and hour", f"rhythm {DEMO} --per weekday --across hour --wide"),
        (
            "Workdays, weekends and holidays by route",
            f"rhythm {DEMO} --per 'kind of day' --by route",
        ),
        ("How fares spread over their range", f"rhythm {DEMO} --histogram fare"),
    ),
)
@data_options
@reading_options
@option(
    QUESTION,
    "--per",
    metavar="ATTRIBUTE",
    default=None,
    help="hour, weekday, day of month, week of month, month, quarter, week, workday, holiday or "
    "kind of day; with --spread and --histogram also a level such as quarter.",
)
@option(
    QUESTION,
    "--across",
    metavar="ATTRIBUTE",
    default=None,
    help="A second attribute: one row for each pair of values.",
)
@option(QUESTION, "--wide", is_flag=True, help="Set the values of --across side by side.")
@option(
    QUESTION,
    "--spread",
    metavar="COLUMN",
    default=None,
    help="Instead: quartiles, whiskers and outliers of a column.",
)
@option(
    QUESTION,
    "--histogram",
    metavar="COLUMN",
    default=None,
    help="Instead: how many values of a column lie in each range.",
)
@option(
    QUESTION,
    "--bins",
    rare=True,
    type=click.IntRange(1, 1000),
    metavar="N",
    default=None,
    help="About how many ranges.  [default: as many as suit the values]",
)
@calendar_options
@answer_options
def rhythm(
    *,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: AnswerOptions,
    per: str | None,
    across: str | None,
    wide: bool,
    spread: str | None,
    histogram: str | None,
    bins: int | None,
) -> Reply:
    """Show how measures spread over hours, weekdays, months and kinds of day."""
    asked = Given(data, reading, rules)
    if spread is not None or histogram is not None:
        if across or wide or output.prove or (spread and histogram):
            raise click.UsageError("--spread and --histogram stand alone, with --per at most")
        return _of_values(asked, output, per, spread, histogram, bins)
    if per is None:
        raise click.UsageError("Missing option '--per' (or --spread or --histogram).")
    book = asked.book()
    by, only = data.grouped(book), data.narrowed
    table = book.rhythm(per, across, wide=wide, by=by, only=only, as_of=data.as_of)
    return Reply(book, table, output)


def _of_values(
    asked: Given,
    output: AnswerOptions,
    per: str | None,
    spread: str | None,
    histogram: str | None,
    bins: int | None,
) -> Reply:
    """Return the box figures or the histogram of a column's values."""
    data = asked.data
    if spread is not None:
        book = asked.book(values=(spread,))
        by = data.grouped(book)
        table = book.spread(spread, per, by=by, only=data.narrowed, as_of=data.as_of)
        return Reply(book, table, output)
    column = histogram or ""
    book = asked.book(values=(column,))
    by = data.grouped(book)
    table = book.histogram(column, per, bins=bins, by=by, only=data.narrowed, as_of=data.as_of)
    return Reply(book, table, output)
