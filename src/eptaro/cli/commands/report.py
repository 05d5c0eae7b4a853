"""The `report` command: a page or a workbook to send on."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from eptaro.beside import Beside
from eptaro.cli.options import calendar_options, data_options
from eptaro.cli.reading import reading_options, tell
from eptaro.cli.settings import Settings
from eptaro.errors import EptaroError


@click.command(
    epilog="Example: eptaro report --config eptaro-demo/eptaro.toml --out ferries.html, and "
    "--out ferries.xlsx --years 3"
)
@data_options
@reading_options
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    required=True,
    metavar="FILE",
    help="The ending decides: .html (a page) or .xlsx (a workbook).",
)
@click.option("--title", default=None, help="The page's title.")
@click.option(
    "--section",
    "sections",
    metavar="NAME",
    multiple=True,
    help="A section of the page: headline, to date, comparison, trend, groups, rhythm, "
    "quality, definitions, proof. May be given again; else all.",
)
@click.option("--per", metavar="LEVEL", default=None, help="The page's comparison per month, ...")
@click.option("--within", metavar="LEVEL", default=None, help="The page's running total within.")
@click.option("--trailing", metavar="AMOUNT", default=None, help="The page's rolling window.")
@click.option(
    "--match",
    metavar="RULE",
    default=None,
    help="How the page cuts prior spans: date, elapsed, weekday, workday.",
)
@click.option(
    "--sheets",
    metavar="WHAT",
    default=None,
    help="A workbook's sheets: a level, or a group column.  [default: year]",
)
@click.option(
    "--parts",
    metavar="LEVEL",
    default=None,
    help="The rows of a workbook's sheets.  [default: month]",
)
@click.option(
    "--years",
    type=click.IntRange(1),
    metavar="N",
    default=None,
    help="How many years the workbook goes back.  [default: all]",
)
@calendar_options
def report(**given: Any) -> None:
    """Write a page (.html) or a workbook (.xlsx) to send on, with nothing to touch up."""
    if given.pop("only"):
        raise click.UsageError("a report looks at everything; leave --only out")
    out, as_of = given.pop("out"), given.pop("as_of")
    names = ("title", "per", "within", "trailing", "match", "sheets", "parts", "years")
    options = {name: given.pop(name) for name in names} | {"sections": given.pop("sections")}
    own = {name: value for name, value in options.items() if value not in (None, ())}
    settings = Settings(given)
    page = out.suffix.lower() == ".html"
    if page and settings.config is not None:
        own = settings.config.report | own
    looked = page and "quality" in own.get("sections", ["quality"])
    # Dates are looked at while the rows are folded.
    later = Beside(_quality, settings, dict(given)) if looked else None
    book = settings.book(given)
    quality = later.result() if later else None
    path = book.report(out, quality=quality, as_of=as_of, **own)
    tell(f"report written to {path}")


def _quality(settings: Settings, asked: dict[str, Any]) -> Any:
    """Return what is in the dates of the files, or None where that cannot be told."""
    from eptaro.engines.inspect import inspect
    from eptaro.inputs.files.opening import open_files

    data = settings.config.data if settings.config else None
    files, date = list(asked["files"]), asked["date"] or (data.date if data else None)
    if not files and settings.config:
        files = settings.config.files()
    dates, written = settings.reading(asked)
    if "-" in files:  # standard input can be read only once
        return None
    try:
        return inspect(open_files(files, written), date=date, dates=dates)
    except EptaroError:
        return None
