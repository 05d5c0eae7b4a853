"""The `dimension` command."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.help import DEMO, KNOWN, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import notify
from eptaro.cli.options import OutputOptions, RuleOptions, output_options, rule_options
from eptaro.cli.process import leave_pandas_out
from eptaro.cli.settings import Settings
from eptaro.cli.show import deliver
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.dimension.build import COLUMN_SETS
from eptaro.core.dimension.build import dimension as make_dimension
from eptaro.daybook import Daybook
from eptaro.inputs.locales import locale_names
from eptaro.outputs.databases import Mode, load_table


@click.command(
    cls=HeadedCommand,
    examples=(
        (
            "Two calendars, every attribute, to a file",
            f"dimension {DEMO} --calendar fiscal --calendar cafe --from 2022-04-01 --through "
            "2027-03-31 --columns all --out days.parquet",
        ),
        (
            "What each column means",
            f"dimension {DEMO} --from 2025-01-01 --through 2025-12-31 --describe",
        ),
        (
            "The days of a data file, to a database",
            f"dimension {DEMO} --cover eptaro-demo/bookings.csv --date sailed_on --database "
            "sqlite:///days.db --table days",
        ),
    ),
)
@option(QUESTION, "--from", "first", metavar="DATE", default=None, help="First day.")
@option(QUESTION, "--through", "last", metavar="DATE", default=None, help="Last day, included.")
@option(
    QUESTION,
    "--cover",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="Take the days of a data file, rounded out to whole years of every calendar.",
)
@option(
    QUESTION, "--date", metavar="COLUMN", default=None, help="With --cover: its column of dates."
)
@option(
    QUESTION,
    "--calendar",
    "names",
    metavar="NAME",
    multiple=True,
    help="A calendar of the --config file; may be given again.  [default: all of them]",
)
@rule_options
@option(
    QUESTION,
    "--columns",
    default="standard",
    show_default=True,
    metavar="SET|LIST",
    help=f"{', '.join(COLUMN_SETS)}, or names separated by commas.",
)
@option(QUESTION, "--locale", default=None, help="Language of names, such as fr or pt_BR.")
@option(
    KNOWN,
    "--as-of",
    metavar="DATE",
    default=None,
    help="Add columns that relate each day to this date: today or a date.",
)
@option(
    QUESTION, "--unknown-row", is_flag=True, help="Begin with a row of key 0 for unknown dates."
)
@option(QUESTION, "--describe", is_flag=True, help="Print the data dictionary instead of the days.")
@option(
    OUTPUT,
    "--database",
    metavar="URL",
    default=None,
    help="Load into a database instead, such as sqlite:///days.db.",
)
@option(OUTPUT, "--table", metavar="NAME", default=None, help="With --database: its table.")
@option(
    OUTPUT,
    "--mode",
    metavar="HOW",
    default="create",
    show_default=True,
    help="With --database: create, replace, or extend by missing days.",
)
@output_options
def dimension(
    first: str | None,
    last: str | None,
    cover: Path | None,
    date: str | None,
    names: tuple[str, ...],
    columns: str,
    locale: str | None,
    as_of: str | None,
    unknown_row: bool,
    describe: bool,
    database: str | None,
    table: str | None,
    mode: Mode,
    rules: RuleOptions,
    output: OutputOptions,
) -> None:
    """Build the date dimension: one row per day, for every calendar at once."""
    if (database is None) != (table is None):
        raise click.UsageError("--database URL and --table NAME go together")
    settings = Settings(rules)
    calendars = _calendars(settings, names)
    span = _span(first, last, cover, date, calendars)
    if locale is None:
        locale = settings.config.locale if settings.config else "en"
    days = make_dimension(
        span.first,
        span.last,
        calendars=calendars,
        columns=columns if columns in COLUMN_SETS else columns.replace(" ", "").split(","),
        workdays=settings.workdays(span),
        locale=locale_names(locale),
        as_of=as_of,
        unknown_row=unknown_row,
    )
    if database is not None and not describe:
        leave_pandas_out()
        notify(str(load_table(days, database, str(table), mode)))
        return
    deliver(days.describe() if describe else days, output)


def _calendars(settings: Settings, names: tuple[str, ...]) -> list[Calendar]:
    """Return the civil calendar and those asked for; with a config and no names, all of it."""
    civil = MonthCalendar()
    if settings.describes_calendar:
        own = settings.calendar(None)
        return [own] if own.name == civil.name else [civil, own]
    if names:
        return [settings.calendar(name) for name in dict.fromkeys(names)]
    return list(settings.config.calendars.values()) if settings.config else [civil]


def _span(
    first: str | None,
    last: str | None,
    cover: Path | None,
    date: str | None,
    calendars: list[Calendar],
) -> Span:
    if cover is None:
        for option, value in (("--from", first), ("--through", last)):
            if value is None:
                raise click.UsageError(f"Missing option '{option}' (or --cover FILE).")
        return Span(str(first), str(last))
    if date is None:
        raise click.UsageError("Missing option '--date' for --cover.")
    span = Daybook.read(cover, date=date, measures="rows=count()").coverage
    years = [calendar.periods(span, "year") for calendar in calendars]
    lo = min(int(period.first[0]) for period in years)
    return Span.of(lo, max(int(period.last[-1]) for period in years))
