"""The commands of the verbs: recap, accumulate, trail, compare and rhythm."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cache, wraps
from typing import Any

import click

from eptaro.book import Book
from eptaro.cli.data_options import DataOptions, ReadingOptions, data_options, reading_options
from eptaro.cli.help import BOOKINGS, DEMO, QUESTION, HeadedCommand, option
from eptaro.cli.messages import notify
from eptaro.cli.options import (
    AnswerOptions,
    CalendarOptions,
    Command,
    add_options,
    answer_options,
    calendar_options,
    take_options,
)
from eptaro.cli.settings import Settings
from eptaro.cli.show import deliver
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.query.query import Query
from eptaro.core.verbs.queries import (
    Accumulate,
    Card,
    Compare,
    Histogram,
    Recap,
    Restated,
    Rhythm,
    Spread,
    Trail,
)
from eptaro.progress import log_time
from eptaro.record import Record, record
from eptaro.table import Table


@record
class Reply:
    """The answer to a command, and where it goes."""

    book: Book
    table: Table
    output: AnswerOptions

    def deliver(self) -> None:
        """Prove the answer and draw it where that is wanted, and print or write it."""
        if self.output.prove:
            with log_time("proved"):
                count = self.book.prove(self.table)
            notify(f"proved: {count:,} numbers recalculated from their transactions")
        if self.output.plot:
            with log_time("drawn"):
                path = self.table.plot(
                    self.output.plot,
                    kind=self.output.kind,
                    measure=self.output.measure_drawn,
                    title=self.output.title,
                    unit=self.output.unit,
                    size=self.output.size,
                    theme=self.output.theme,
                )
            notify(f"drawn to {path}")
        with log_time("shown"):
            deliver(self.table, self.output)


class VerbCommand(HeadedCommand):
    """A command whose function returns a `Reply`, which is then delivered."""

    def invoke(self, ctx: click.Context) -> Any:
        """Answer, and deliver the answer."""
        with log_time("answered, with reading"):
            reply: Reply = super().invoke(ctx)
        reply.deliver()

    def reply(self, words: Sequence[str]) -> Reply:
        """Return the reply to words of a command line, without delivering it."""
        with self.make_context(self.name, list(words)) as context:
            answer: Reply = super().invoke(context)
        return answer


@record
class CommandInputs(Record):
    """The groups of options that every verb takes."""

    data: DataOptions
    reading: ReadingOptions
    rules: CalendarOptions

    def book(self, values: tuple[str, ...] = ()) -> Book:
        """Return the book that the options name."""
        return Settings(self.rules).book(self.data, self.reading, values)

    def answer(
        self,
        kind: type[Query],
        given: Mapping[str, Any],
        output: AnswerOptions,
        values: tuple[str, ...] = (),
    ) -> Reply:
        """Return the reply to a query of a kind, made of what its options were given; `values` are
        further columns that it looks at.
        """
        book, data = self.book(values), self.data
        by, only = data.group_columns(book), data.narrowed
        query = kind(**given, by=by, only=only, as_of=data.as_of)
        return Reply(book, book.ask(query), output)


def query_options(
    kind: type[Query], *, optional: Sequence[str] = (), names: Sequence[str] = ()
) -> Callable[[Command], Command]:
    """Return a decorator that adds the options of a query, or those of some names, to a command.

    The command receives them as one mapping, `given`; those that are `optional` may be missing.
    """

    def add(command: Command) -> Command:
        @wraps(command)
        def run(*, given: Mapping[str, Any] | None = None, **others: Any) -> Any:
            own = take_options(kind, others, names)
            return command(given={**own, **(given or {})}, **others)

        return add_options(kind, names=names, optional=optional)(run)  # type: ignore[no-any-return]

    return add


def verb_command(
    *question: Callable[[Command], Command], examples: Sequence[tuple[str, str]]
) -> Callable[[Callable[..., Reply]], Callable[[], VerbCommand]]:
    """Return a decorator that makes a function of its inputs and output into one that returns a
    verb's command, whose ninety options are only made when it is the one that runs.

    The options of its question are listed after those of the data and of reading.
    """

    def add(answer: Callable[..., Reply]) -> Callable[[], VerbCommand]:
        @wraps(answer)
        def run(
            *,
            data: DataOptions,
            reading: ReadingOptions,
            rules: CalendarOptions,
            output: AnswerOptions,
            **own: Any,
        ) -> Reply:
            return answer(CommandInputs(data, reading, rules), output, **own)

        @cache
        def command() -> VerbCommand:
            decorated: Callable[..., Any] = run
            for decorate in (
                answer_options,
                calendar_options,
                *reversed(question),
                reading_options,
                data_options,
            ):
                decorated = decorate(decorated)
            return click.command(cls=VerbCommand, examples=examples)(decorated)

        return command

    return add


@verb_command(
    query_options(Recap),
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
def recap(inputs: CommandInputs, output: AnswerOptions, *, given: Mapping[str, Any]) -> Reply:
    """Summarise each period (grouped period summary), empty ones included."""
    if given["beside"] is not None:
        calendar = Settings(inputs.rules).named_calendar(given["beside"])
        given = {**given, "beside": calendar}
    return inputs.answer(Recap, given, output)


@verb_command(
    query_options(Accumulate, optional=["within"], names=["within"]),
    option(
        QUESTION, "--card", is_flag=True, help="Show week, month, quarter and year to date instead."
    ),
    query_options(Card, names=["back", "trailing"]),
    query_options(Accumulate, names=["goals", "pace", "wide", "totals", "every", "sort"]),
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
def accumulate(
    inputs: CommandInputs, output: AnswerOptions, *, card: bool, given: Mapping[str, Any]
) -> Reply:
    """Show period-to-date (running) totals; days without transactions have a row too."""
    of_card = {name: given[name] for name in ("back", "trailing")}
    own = {name: value for name, value in given.items() if name not in of_card}
    if card:
        for name in ("within", "totals", "every", "sort"):
            if own[name]:
                raise click.UsageError(f"--{name} does not go with --card, which has a row a level")
        shared = {name: given[name] for name in ("goals", "pace", "wide")}
        return Reply(*_card(inputs, of_card | shared), output)
    if any(of_card.values()):
        raise click.UsageError("--back and --trailing belong to --card here")
    if own["within"] is None:
        raise click.UsageError("Missing option '--within' (or --card).")
    return inputs.answer(Accumulate, own, output)


def _card(inputs: CommandInputs, given: Mapping[str, Any]) -> tuple[Book, Table]:
    """Return the to-date values of the as-of date in every calendar at hand."""
    config = Settings(inputs.rules).config
    calendars = config.calendars if config else {}
    book, data = inputs.book(), inputs.data
    own = book.calendar
    every = list({c.name: c for c in (MonthCalendar(), own, *calendars.values())}.values())
    if given["wide"]:
        every = [own]
    query = Card(calendars=every, by=list(data.by), only=data.narrowed, as_of=data.as_of, **given)
    return book, book.ask(query)


@verb_command(
    query_options(Trail),
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
def trail(inputs: CommandInputs, output: AnswerOptions, *, given: Mapping[str, Any]) -> Reply:
    """Show rolling (trailing) windows: totals of the last days, months or transactions."""
    return inputs.answer(Trail, given, output)


@verb_command(
    query_options(Compare),
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
def compare(inputs: CommandInputs, output: AnswerOptions, *, given: Mapping[str, Any]) -> Reply:
    """Compare periods with prior ones, like for like (prior-period comparison)."""
    return inputs.answer(Compare, given, output)


@verb_command(
    query_options(Rhythm, optional=["per"]),
    option(
        QUESTION,
        "--spread",
        metavar="COLUMN",
        default=None,
        help="Show quartiles, whiskers and outliers of a column instead, or of the totals of a "
        "measure per customer.",
    ),
    option(
        QUESTION,
        "--histogram",
        metavar="COLUMN",
        default=None,
        help="Show how many values of a column lie in each range instead.",
    ),
    query_options(Histogram, names=["bins"]),
    examples=(
        ("Revenue per weekday and hour", f"rhythm {DEMO} --per weekday --across hour --wide"),
        ("Workdays, weekends and holidays by route", f"rhythm {DEMO} --per 'day type' --by route"),
        ("How fares spread over their range", f"rhythm {DEMO} --histogram fare"),
    ),
)
def rhythm(
    inputs: CommandInputs,
    output: AnswerOptions,
    *,
    spread: str | None,
    histogram: str | None,
    given: Mapping[str, Any],
) -> Reply:
    """Show the distribution of measures over hours, weekdays, months and day types."""
    own = {name: value for name, value in given.items() if name != "bins"}
    if spread is not None or histogram is not None:
        if own["across"] or own["wide"] or output.prove or (spread and histogram):
            raise click.UsageError("--spread and --histogram can be combined with --per only")
        values = {"column": spread or histogram, "per": own["per"]}
        if spread is not None:
            return inputs.answer(Spread, values, output, (spread,))
        values["bins"] = given["bins"]
        return inputs.answer(Histogram, values, output, (histogram or "",))
    if own["per"] is None:
        raise click.UsageError("Missing option '--per' (or --spread or --histogram).")
    return inputs.answer(Rhythm, own, output)


@verb_command(
    query_options(Restated),
    option(
        QUESTION,
        "--before",
        metavar="FILE",
        multiple=True,
        help="The data as it was: a file like those given, or a book. May be given again.",
    ),
    option(
        QUESTION,
        "--known",
        metavar="COLUMN",
        default=None,
        help="The date on which each row became known; with --since, in place of --before.",
    ),
    option(
        QUESTION,
        "--since",
        metavar="DATE",
        default=None,
        help="With --known: rows that became known later are the changes.",
    ),
    examples=(
        (
            "What bookings that became known after June have changed in the months before",
            f"restated {DEMO} --known booked_at --since 2025-06-30 --per month",
        ),
        (
            "What differs from an earlier file",
            f"restated {BOOKINGS} --before eptaro-demo/bookings.csv --per quarter",
        ),
    ),
)
def restated(
    inputs: CommandInputs,
    output: AnswerOptions,
    *,
    before: tuple[str, ...],
    known: str | None,
    since: str | None,
    given: Mapping[str, Any],
) -> Reply:
    """Show what has changed in periods that were already reported (restatement)."""
    settings, data = Settings(inputs.rules), inputs.data
    if data.only or data.as_of != "latest":
        raise click.UsageError(
            "restated looks at all days of the earlier data; leave --only and --as-of out"
        )
    now = settings.daybook(data, inputs.reading)
    then = settings.earlier(data, inputs.reading, before, known, since)
    table = now.restated(then, given["per"], by=data.group_columns(now), as_of=since)
    return Reply(now, table, output)
