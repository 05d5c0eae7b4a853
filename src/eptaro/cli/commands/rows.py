"""The commands that look at rows: inspect and annotate."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from eptaro.cli.data_options import ReadingOptions, reading_options, where_option
from eptaro.cli.help import DEMO, GROUPS, KNOWN, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import loudness_options, notify, shown_progress
from eptaro.cli.options import CalendarOptions, OutputOptions, calendar_options, output_options
from eptaro.cli.process import leave_pandas_out
from eptaro.cli.settings import Settings
from eptaro.cli.show import deliver

if TYPE_CHECKING:
    from eptaro.inputs.sources import Source
    from eptaro.rules import FileRules


def _open_source(
    settings: Settings,
    files: tuple[str, ...],
    date: str | None,
    where: str | None,
    reading: ReadingOptions,
    *,
    look: bool = False,
) -> tuple[Source, str | None, str | None, FileRules]:
    """Return the source, the date column, the condition and how files are written, as options or
    config say; of a file of text, where they do not, as a look at it suggests.
    """
    leave_pandas_out()
    from eptaro.inputs.columns.wrapped import clean_numbers
    from eptaro.inputs.files.guessing import guess_file_rules
    from eptaro.inputs.files.opening import open_files

    data = settings.config.data if settings.config else None
    names = list(files)
    if not names and settings.config:
        names = settings.config.files()
    if not names:
        settings.check_one_data_set()
        raise click.UsageError("Missing argument 'FILE...' (or a --config with [data]).")
    file_rules = settings.file_rules(reading)
    if look and data is None:
        file_rules, remarks = guess_file_rules(names[0], file_rules)
        for remark in remarks:
            notify(f"{names[0]}: {remark}")
    if data is not None and not files:
        where = where or data.where
    source = clean_numbers(
        open_files(names, file_rules),
        reading.number_rules(settings.config.number_rules() if settings.config else None),
    )
    return source, date or (data.date if data else None), where, file_rules


@click.command(
    cls=HeadedCommand,
    examples=(
        ("What a file holds, and a command to begin with", "inspect eptaro-demo/stores.csv"),
        (
            "What is in its dates, and the gaps of each shipper",
            "inspect eptaro-demo/consignments.csv --date shipped --by shipper",
        ),
        (
            "Rows that are there twice",
            "inspect eptaro-demo/bookings.csv --date sailed_on --key customer --key booked_at",
        ),
    ),
)
@click.argument("files", metavar="[FILE]...", nargs=-1)
@option(QUESTION, "--date", metavar="COLUMN", default=None, help="The column of dates.")
@option(GROUPS, "--by", metavar="COLUMN", multiple=True, help="Look for gaps in each group, too.")
@option(
    QUESTION,
    "--key",
    "keys",
    metavar="COLUMN",
    multiple=True,
    help="Columns that together identify a row. May be given again.",
)
@where_option
@reading_options
@calendar_options
@output_options
def inspect(
    *,
    files: tuple[str, ...],
    date: str | None,
    by: tuple[str, ...],
    keys: tuple[str, ...],
    where: str | None,
    reading: ReadingOptions,
    rules: CalendarOptions,
    output: OutputOptions,
) -> None:
    """Show what is in the dates of a file: their span, gaps, unreadable ones, duplicates."""
    import numpy as np

    from eptaro.core.results.result import Result
    from eptaro.engines.inspect import inspect as look

    settings = Settings(rules)
    dates = settings.date_rules(reading)
    source, column, where, file_rules = _open_source(
        settings, files, date, where, reading, look=True
    )
    with shown_progress():
        table = look(
            source, date=column, by=by, keys=keys, where=where, dates=dates, files=file_rules
        )
    following = ""
    if output.form == "table" and output.out is None:
        subjects, details = (table.column(name).to_list() for name in ("subject", "detail"))
        if subjects[-1] == "next":  # below, as it is often wider than a screen
            table, following = table.take(np.arange(len(table) - 1)), f"next: {details[-1]}"
        if not by:
            table = Result([c for c in table.columns if c.name != "group"], table.meta)
    deliver(table, output)
    if following:
        click.echo(following)


@click.command(
    cls=HeadedCommand,
    examples=(
        (
            "Fiscal quarter, weekday and hour beside each row",
            "annotate eptaro-demo/bookings.csv --date sailed_on --add fiscal_quarter_label "
            "--add day_name --add hour --year-starts 04-01 --prefix FY --out annotated.csv",
        ),
        (
            "Day names in French",
            "annotate eptaro-demo/bookings.csv --date sailed_on --add day_name --locale fr "
            "--out named.csv",
        ),
        (
            "Holidays of the config",
            f"annotate {DEMO} --add is_holiday --add is_workday --out days.parquet",
        ),
    ),
)
@click.argument("files", metavar="[FILE]...", nargs=-1)
@option(QUESTION, "--date", metavar="COLUMN", default=None, help="The column of dates.")
@option(
    QUESTION,
    "--add",
    metavar="ATTRIBUTE",
    multiple=True,
    required=True,
    help="An attribute of the dimension (see dimension --columns all --describe) or a "
    "part of the time: hour, minute, second, ... May be given again.",
)
@option(QUESTION, "--locale", default=None, help="Language of names, such as fr or pt_BR.")
@option(
    KNOWN,
    "--as-of",
    metavar="DATE",
    default=None,
    help="The date that relative attributes refer to.",
)
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    metavar="FILE",
    required=True,
    help="Where the rows go: .csv, .parquet or .arrow.",
)
@where_option
@reading_options
@calendar_options
@loudness_options
def annotate(
    *,
    files: tuple[str, ...],
    date: str | None,
    add: tuple[str, ...],
    locale: str | None,
    as_of: str | None,
    out: Path,
    where: str | None,
    reading: ReadingOptions,
    rules: CalendarOptions,
) -> None:
    """Add calendar attributes and parts of the time to each row of a file."""
    from eptaro.engines.annotate import annotate as add_to

    settings = Settings(rules)
    if rules.calendar or settings.describes_calendar or settings.config is None:
        calendars = [settings.calendar(rules.calendar)]
    else:
        calendars = list(settings.config.calendars.values())
    dates = settings.date_rules(reading)
    source, column, where, _ = _open_source(settings, files, date, where, reading)
    if locale is None:
        locale = settings.config.locale if settings.config else "en"
    with shown_progress():
        path = add_to(
            source,
            add=list(add),
            date=column,
            calendars=calendars,
            locale=locale,
            as_of=as_of,
            workdays=settings.workdays,
            where=where,
            dates=dates,
            out=out,
        )
    notify(f"written to {path}")
