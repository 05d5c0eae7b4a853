"""The `report` command: a page or a workbook to send on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from eptaro.background import BackgroundTask
from eptaro.cli.data_options import DataOptions, ReadingOptions, data_options, reading_options
from eptaro.cli.help import DEMO, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import loudness_options, notify
from eptaro.cli.options import CalendarOptions, calendar_options
from eptaro.cli.settings import Settings
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Match
from eptaro.errors import EptaroError
from eptaro.reports.report import ReportOptions, write_report


@click.command(
    cls=HeadedCommand,
    examples=(
        ("A page to send on", "report --config eptaro-demo/eptaro.toml --out ferries.html"),
        (
            "A workbook with a sheet for each of the last three fiscal years",
            f"report {DEMO} --out ferries.xlsx --years 3",
        ),
        (
            "A page of some sections, by weekday matches",
            f"report {DEMO} --section headline --section groups --match weekday --out short.html",
        ),
    ),
)
@data_options
@reading_options
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="The ending decides: .html (a page) or .xlsx (a workbook).",
)
@option(QUESTION, "--title", default=None, help="The page's title.")
@option(
    QUESTION,
    "--section",
    "sections",
    metavar="NAME",
    multiple=True,
    help="A section of the page: headline, plan, groups, to date, comparison, years, "
    "calendars, trend, rhythm, restated, quality, definitions, proof. May be given again; else "
    "all.",
)
@option(
    QUESTION,
    "--per",
    metavar="LEVEL",
    default=None,
    help="The level of the page's comparison, such as month.",
)
@option(
    QUESTION,
    "--within",
    metavar="LEVEL",
    default=None,
    help="The level of the page's running total, such as year.",
)
@option(
    QUESTION,
    "--trailing",
    metavar="AMOUNT",
    default=None,
    help="The page's rolling window, such as '12 months'.",
)
@option(
    QUESTION,
    "--match",
    metavar="RULE",
    default=None,
    help="How the page cuts prior spans: date, elapsed, weekday, workday.",
)
@option(
    QUESTION,
    "--goals",
    metavar="FILE",
    default=None,
    help="A CSV of goals; a section of the page compares the totals with them.",
)
@option(
    QUESTION,
    "--beside",
    metavar="CALENDAR",
    default=None,
    help="Another calendar of the config; a section crosses its periods with those of the data.",
)
@option(
    QUESTION,
    "--before",
    metavar="FILE",
    multiple=True,
    help="The data as it was; a section shows what has changed. May be given again.",
)
@option(
    QUESTION,
    "--known",
    metavar="COLUMN",
    default=None,
    help="The date on which each row became known; with --since, in place of --before.",
)
@option(
    QUESTION,
    "--since",
    metavar="DATE",
    default=None,
    help="With --known: rows that became known later are the changes.",
)
@option(
    QUESTION,
    "--sheets",
    metavar="WHAT",
    default=None,
    help="A workbook's sheets: a level, or a group column.  [default: year]",
)
@option(
    QUESTION,
    "--parts",
    metavar="LEVEL",
    default=None,
    help="The rows of a workbook's sheets.  [default: month]",
)
@option(
    QUESTION,
    "--years",
    type=click.IntRange(1),
    metavar="N",
    default=None,
    help="How many years the workbook goes back.  [default: all]",
)
@calendar_options
@loudness_options
def report(
    data: DataOptions,
    reading: ReadingOptions,
    out: Path,
    title: str | None,
    sections: tuple[str, ...],
    per: str | None,
    within: str | None,
    trailing: str | None,
    match: Match | None,
    sheets: str | None,
    parts: str | None,
    years: int | None,
    rules: CalendarOptions,
    **closing: Any,
) -> None:
    """Write a page (.html) or a workbook (.xlsx) to send on."""
    if data.only:
        raise click.UsageError("a report looks at everything; leave --only out")
    settings = Settings(rules)
    options = ReportOptions(
        title,
        sections or None,
        per,
        within,
        trailing,
        match,
        sheets=sheets,
        parts=parts,
        years=years,
    )
    page = out.suffix.lower() == ".html"
    closing = {name: value for name, value in closing.items() if value}
    if page and settings.config is not None:
        settings_of_report = dict(settings.config.report_said)
        closing_options = {
            name: settings_of_report.pop(name) for name in _CLOSING if name in settings_of_report
        }
        options, closing = (
            options.over(ReportOptions(**settings_of_report)),
            closing_options | closing,
        )
    looked = page and "quality" in (options.sections or ["quality"])
    # Dates are looked at while the rows are folded.
    later = BackgroundTask(_inspect_dates, settings, data, reading) if looked else None
    book = settings.book(data, reading)
    quality = later.result() if later else None
    options = replace(options, **_closing_options(settings, data, reading, closing))
    report_path = write_report(book._asked_store, out, options, quality, data.as_of)
    notify(f"report written to {report_path}")


_CLOSING = ("goals", "beside", "before", "known", "since")


def _closing_options(
    settings: Settings, data: DataOptions, reading: ReadingOptions, options_given: Mapping[str, Any]
) -> dict[str, Any]:
    """Return what the sections that close a period go by: goals, a calendar, the book before."""
    options: dict[str, Any] = {}
    if "goals" in options_given:
        from eptaro.inputs.goals_and_coverage import read_goals

        options["goals"] = read_goals(options_given["goals"])
    if "beside" in options_given:
        options["beside"] = settings.named_calendar(options_given["beside"])
    if options_given.keys() & {"before", "known", "since"}:
        words = (
            options_given.get("before", ()),
            options_given.get("known"),
            options_given.get("since"),
        )
        options["before"] = settings.earlier(data, reading, *words)._asked_store
        options["since"] = options_given.get("since")
    return options


def _inspect_dates(settings: Settings, data: DataOptions, reading: ReadingOptions) -> Result | None:
    """Return what is in the dates of the files, or None where that cannot be determined."""
    from eptaro.engines.inspect import inspect
    from eptaro.inputs.files.opening import open_files

    words = settings.config.data if settings.config else None
    files, date = list(data.files), data.rows.get("date") or (words.date if words else None)
    if not files and settings.config:
        files = settings.config.files()
    dates, file_rules = settings.date_rules(reading), settings.file_rules(reading)
    if "-" in files:  # standard input can be read only once
        return None
    try:
        where = data.rows.get("where") or (words.where if words and not data.files else None)
        return inspect(open_files(files, file_rules), date=date, where=where, dates=dates)
    except EptaroError:
        return None
