"""Options on how files and dates are read, and what they come to."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from eptaro.cli.options import together
from eptaro.core.tables.display import visible
from eptaro.progress import watched
from eptaro.rules.dates import ORDERS, SERIALS, UNIX, DateRules

_FILE = ("delimiter", "encoding", "decimal", "sheet", "query")
_DATES = (
    "order",
    "formats",
    "month_names",
    "pivot",
    "serials",
    "unix",
    "zone",
    "day_starts",
    "blanks",
    "bad_dates",
)

reading_options = together(
    click.option(
        "--order",
        type=click.Choice(ORDERS),
        default=None,
        help="How the parts of date text are ordered; infer goes by the evidence.",
    ),
    click.option(
        "--date-format",
        "formats",
        metavar="FORMAT",
        multiple=True,
        help="How dates are written, such as %d.%m.%Y. May be given again.",
    ),
    click.option(
        "--month-names",
        metavar="LOCALE",
        default=None,
        help="The language of month names in dates, such as fr.",
    ),
    click.option(
        "--pivot",
        type=click.IntRange(0, 99),
        default=None,
        help="Two-digit years up to it are 2000s.",
    ),
    click.option(
        "--serials",
        type=click.Choice(SERIALS),
        default=None,
        help="Dates are numbers of days, as spreadsheets store them.",
    ),
    click.option(
        "--unix",
        type=click.Choice(UNIX),
        default=None,
        help="Dates are numbers of time since 1970-01-01 UTC.",
    ),
    click.option(
        "--zone",
        metavar="NAME",
        default=None,
        help="Turn times with an offset into this zone's days, such as Europe/Lisbon.",
    ),
    click.option(
        "--day-starts",
        metavar="HH:MM",
        default=None,
        help="Times before it belong to the day before.  [default: 00:00]",
    ),
    click.option(
        "--blank-date",
        "blanks",
        metavar="VALUE",
        multiple=True,
        help="A value that stands for no date, such as 1900-01-01. May be given again.",
    ),
    click.option(
        "--bad-dates",
        type=click.Choice(["raise", "set-aside"]),
        default=None,
        help="Stop at dates that cannot be read, or go on without their rows.",
    ),
    click.option(
        "--aside",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Where the rows set aside are listed.  [default: FILE.aside.csv]",
    ),
    click.option("--delimiter", default=None, metavar="MARK", help="What sets CSV fields apart."),
    click.option("--encoding", default=None, metavar="NAME", help="Of CSV files, such as latin-1."),
    click.option(
        "--decimal",
        type=click.Choice([".", ","]),
        default=None,
        help="The decimal mark in CSV files.",
    ),
    click.option("--sheet", default=None, metavar="NAME", help="The sheet of a workbook."),
    click.option(
        "--query",
        default=None,
        metavar="SQL",
        help="With a database address for FILE: the rows to read.",
    ),
)


def date_rules(given: dict[str, Any], fallback: dict[str, Any] | None = None) -> DateRules:
    """Return the date rules of the options, taken out of `given`, over those of a config."""
    own = {name: given.pop(name) for name in _DATES}
    own["locale"] = own.pop("month_names")
    if own["bad_dates"] == "set-aside":
        own["bad_dates"] = "set aside"
    said = {name: value for name, value in own.items() if value not in (None, ())}
    return DateRules(**{**(fallback or {}), **said})


def file_rules(given: dict[str, Any], fallback: dict[str, Any] | None = None) -> Any:
    """Return the file rules of the options, taken out of `given`, over those of a config."""
    from eptaro.rules.files import FileRules

    own = {name: given.pop(name) for name in _FILE}
    said = {name: value for name, value in own.items() if value is not None}
    if said.get("delimiter") in ("tab", "\\t"):
        said["delimiter"] = "\t"
    return FileRules(**{**(fallback or {}), **said})


def tell(message: str) -> None:
    """Say something on standard error; what data or file names bring with them cannot act."""
    click.echo("\n".join(map(visible, message.split("\n"))), err=True)


def tell_aside(aside: Any, left_out: dict[str, Any], out: Path | None, source: str) -> None:
    """Write the rows set aside to a file, and say how many and what they add up to."""
    if not len(aside):
        return
    first = Path(source.split(" and ")[0])
    path = out or Path(f"{first.name}.aside.csv")
    aside.write(path)
    sums = "".join(f", sum({name}) {total:,}" for name, total in left_out.items())
    tell(f"{len(aside):,} rows set aside{sums}: listed in {path}")


@contextmanager
def shown_progress() -> Iterator[None]:
    """Show a bar (rows, rate, time left) on a terminal where reading takes long."""
    from rich.console import Console

    console = Console(stderr=True)
    if not console.is_terminal:
        yield
        return
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (
        TextColumn("{task.fields[rows]:>14,} rows"),
        BarColumn(),
        TextColumn("{task.fields[rate]:>12,.0f} rows/s"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=console, transient=True) as bar:
        task = bar.add_task("", total=1.0, rows=0, rate=0.0)

        def follow(rows: int, share: float | None) -> None:
            elapsed = bar.tasks[0].elapsed or 1e-9
            bar.update(task, completed=share or 0.0, rows=rows, rate=rows / elapsed)

        with watched(follow):
            yield
