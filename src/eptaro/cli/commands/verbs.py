"""The commands that question transactions: recap, accumulate, trail and compare."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from eptaro.cli.options import calendar_options, data_options, output_options, plot_options
from eptaro.cli.reading import reading_options, tell
from eptaro.cli.screen import deliver
from eptaro.cli.settings import Settings
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.tables.table import Table
from eptaro.daybook import Daybook
from eptaro.errors import QuestionError
from eptaro.inputs.goals import read_goals

prove_option = click.option(
    "--prove", is_flag=True, help="Make a sample of the numbers again from their transactions."
)
_goals_option = click.option(
    "--goals",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="A CSV of goals: period, goal, and the group column, if any.",
)
_pace_option = click.option(
    "--pace",
    metavar="HOW",
    default="straight",
    show_default=True,
    help="How goals are reached: straight or 'prior year' (its shape).",
)
_sort_option = click.option(
    "--sort",
    metavar="COLUMN",
    default=None,
    help="Order the rows by a column; -COLUMN puts the largest first.",
)
EXAMPLE = "eptaro-demo/bookings.csv --date sailed_on --measure 'revenue=sum(fare)'"


def run_verb(verb: str, given: dict[str, Any]) -> None:
    """Answer a verb's options, prove the answer where wanted, and print or write it."""
    to = {name: given.pop(name) for name in ("out", "form", "rows")}
    wants_proof = given.pop("prove")
    plot, kind = given.pop("plot"), given.pop("kind")
    if kind and not plot:
        raise click.UsageError("--kind goes with --plot FILE")
    book, table = answer(verb, given)
    if wants_proof:
        count = book.prove(table)
        tell(f"proved: {count:,} numbers made again from their transactions")
    if plot:
        tell(f"drawn to {table.plot(plot, kind=kind)}")
    deliver(table, **to)


def answer(verb: str, given: dict[str, Any]) -> tuple[Daybook, Table]:
    """Return the book that the options name, and its answer to a verb."""
    book = Settings(given).book(given)
    given["by"], given["only"] = list(given["by"]), list(given["only"]) or None
    if book.own is not None and not given["by"]:
        given["by"] = [book.own.column]
    if verb == "compare" and len(given["back"]) == 1:
        (given["back"],) = given["back"]
    if isinstance(given.get("weights"), str):
        given["weights"] = _numbers(given["weights"])
    if given.get("goals") is not None:
        given["goals"] = read_goals(given["goals"])
    table: Table = getattr(book, verb)(**given)
    return book, table


@click.command(epilog=f"Example: eptaro recap {EXAMPLE} --per quarter --by route --prefix FY")
@data_options
@reading_options
@click.option(
    "--per",
    metavar="LEVEL",
    required=True,
    help="One row per year, half, quarter, month, week, day; per weekday, month of year, hour, "
    "workday, ...; or per chunk: '5 months from 2024-03-20'.",
)
@click.option("--wide", is_flag=True, help="Set periods down and one group column across.")
@click.option("--totals", is_flag=True, help="Add a total under each group.")
@click.option(
    "--subtotals",
    metavar="LEVEL",
    multiple=True,
    help="Add the periods of a wider level below their parts. May be given again.",
)
@click.option(
    "--top",
    type=int,
    metavar="N",
    default=None,
    help="Keep the N groups with most, the others as one row.",
)
@click.option("--shares", is_flag=True, help="Add each row's share of all and of its period.")
@click.option("--ranks", is_flag=True, help="Add ranks, 1 for the largest.")
@_sort_option
@click.option("--every", metavar="entry", default=None, help="One row per transaction instead.")
@calendar_options
@output_options
@plot_options
@prove_option
def recap(**given: Any) -> None:
    """Summarise each period: one row per group and period, quiet ones included."""
    run_verb("recap", given)


@click.command(
    epilog=f"Example: eptaro accumulate {EXAMPLE} --within quarter --as-of 2025-08-20 --rows 20"
)
@data_options
@reading_options
@click.option(
    "--within",
    metavar="LEVEL",
    default=None,
    help="Restart at each period of this level, run on since a date (2025-03-01..), or all.",
)
@click.option("--card", is_flag=True, help="Show week, month, quarter and year to date instead.")
@_goals_option
@_pace_option
@click.option("--every", metavar="LEVEL", default="day", show_default=True, help="One row per.")
@calendar_options
@output_options
@plot_options
@prove_option
def accumulate(**given: Any) -> None:
    """Run totals that restart at each period; every day has a row, quiet ones too."""
    if given.pop("card"):
        if given.pop("prove") or given.pop("plot") or given.pop("kind"):
            raise click.UsageError("--card goes with no --prove or --plot")
        _card(given)
        return
    if given["within"] is None:
        raise click.UsageError("Missing option '--within' (or --card).")
    run_verb("accumulate", given)


def _card(given: dict[str, Any]) -> None:
    """Print the to-date values of the as-of date in every calendar at hand."""
    to = {name: given.pop(name) for name in ("out", "form", "rows")}
    settings = Settings(given)
    calendars = settings.config.calendars if settings.config else {}
    book = settings.book(given)
    own = book.calendar
    every = list({c.name: c for c in (MonthCalendar(), own, *calendars.values())}.values())
    only = list(given["only"]) or None
    deliver(book.card(calendars=every, by=list(given["by"]), only=only, as_of=given["as_of"]), **to)


@click.command(epilog=f"Example: eptaro trail {EXAMPLE} --back '6 months' --every month")
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
    default="day",
    show_default=True,
    help="One row per day, week, month, ..., or per entry.",
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
@output_options
@plot_options
@prove_option
def trail(**given: Any) -> None:
    """Roll windows over time: trailing days, months, workdays or transactions."""
    run_verb("trail", given)


def _numbers(text: str) -> list[float]:
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise QuestionError(f"--weights {text!r} are not numbers; write 1,2,3") from None


@click.command(epilog=f"Example: eptaro compare {EXAMPLE} --per quarter --to-date --by route")
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
@_goals_option
@_pace_option
@_sort_option
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
@output_options
@plot_options
@prove_option
def compare(**given: Any) -> None:
    """Set each period, or period to date, against a prior one."""
    run_verb("compare", given)
