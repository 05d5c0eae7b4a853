"""The `demo` command: the files, and a walk through the commands in an analyst's order."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from eptaro.cli.help import OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.process import fold_message
from eptaro.demo.files import KINDS, copy_shipped, generate
from eptaro.errors import EptaroError, shell_word


@click.command(
    cls=HeadedCommand,
    examples=(
        ("The demo in this folder", "demo"),
        (
            "Eleven million rows to try the speed",
            "demo --folder ferry --rows 11000000 --kind parquet",
        ),
    ),
)
@option(
    OUTPUT,
    "--folder",
    type=click.Path(path_type=Path),
    default=Path("eptaro-demo"),
    show_default=True,
    help="Where the files go.",
)
@option(
    OUTPUT,
    "--rows",
    type=int,
    default=None,
    metavar="N",
    help="Make about N rows instead of copying the shipped 40,000.",
)
@option(
    QUESTION,
    "--kind",
    type=click.Choice(KINDS),
    default="csv",
    show_default=True,
    help="With --rows: what files to make.",
)
@option(OUTPUT, "--replace", is_flag=True, help="Replace files that are in the folder already.")
def demo(folder: Path, rows: int | None, kind: str, replace: bool) -> None:
    """Copy the demo files of an invented ferry line and walk through the commands."""
    if rows is not None:
        paths = generate(folder, rows, kind=kind, replace=replace)
    else:
        paths = copy_shipped(folder, replace=replace)
        _walk(folder)
    click.secho("\nThe files", bold=True)
    for path in paths:
        click.echo(f"  {path}  {path.stat().st_size:,} bytes")


def _walk(folder: Path) -> None:
    file = str(folder / "bookings.csv")
    freight, stores = (str(folder / name) for name in ("consignments.csv", "stores.csv"))
    fiscal = ["--year-starts", "04-01", "--prefix", "FY"]
    data = [file, "--date", "sailed_on", "--measure", "revenue=sum(fare)"]
    today = ["--as-of", "2025-08-20"]
    steps: list[tuple[str, list[str]]] = [
        (
            "Dates first. A column that is not plainly dates is refused, never guessed at:",
            [
                "recap",
                freight,
                "--date",
                "shipped",
                "--measure",
                "charge=sum(charge)",
                "--per",
                "month",
            ],
        ),
        (
            "What is in them, then, and how should they be read?",
            ["inspect", freight, "--date", "shipped"],
        ),
        (
            "Months, money as people write it, lines above the header: what does this file hold?",
            ["inspect", stores],
        ),
        (
            "Its own months add up to fiscal quarters, by the type of ship, from a lookup table:",
            [
                "recap",
                stores,
                "--date",
                "month",
                "--delimiter",
                ";",
                "--header-row",
                "3",
                "--numbers",
                "infer",
                "--lookup",
                f"{folder / 'ships.csv'}:ship=name",
                "--measure",
                "cost=sum(cost)",
                "--by",
                "type",
                "--wide",
                "--per",
                "quarter",
                *fiscal,
                "--only",
                "FY2025",
            ],
        ),
        (
            "The date dimension: one row per day, for calendar and fiscal years. Its end:",
            [
                "dimension",
                "--from",
                "2022-04-01",
                "--through",
                "2026-03-31",
                *fiscal,
                "--rows",
                "4",
            ],
        ),
        (
            "Revenue and trips per fiscal year. The last year is not complete, and is marked:",
            ["recap", *data, "--measure", "trips=count()", "--per", "year", *fiscal, *today],
        ),
        (
            "Only bookings of two and more, the share of cars in their revenue, and newcomers:",
            [
                "recap",
                *data,
                "--where",
                "passengers >= 2",
                "--measure",
                "cars=sum(fare where fare_class = 'car')",
                "--measure",
                "share=cars / revenue",
                "--measure",
                "newcomers=new(customer)",
                "--per",
                "year",
                *fiscal,
                *today,
            ],
        ),
        (
            "A year of quarters by route, side by side, with totals on both edges:",
            [
                "recap",
                *data,
                "--per",
                "quarter",
                "--by",
                "route",
                "--wide",
                *fiscal,
                "--only",
                "2024-07-01..2025-06-30",
            ],
        ),
        (
            "The fiscal quarter to date, day by day. Days without crossings keep the total:",
            ["accumulate", *data, "--within", "quarter", *fiscal, *today, "--only", "2025-08-11.."],
        ),
        (
            "Trailing twelve months, at each quarter's end. Months are months, leap years too:",
            [
                "trail",
                *data,
                "--back",
                "12 months",
                "--every",
                "quarter",
                *fiscal,
                *today,
                "--only",
                "2024-04-01..",
            ],
        ),
        (
            "Which days are busy? Weekdays in their own order unless sorted:",
            [
                "recap",
                *data,
                "--measure",
                "trips=count()",
                "--per",
                "weekday",
                "--sort",
                "-revenue",
            ],
        ),
        (
            "Are we up or down? The quarter to date against the same days a year before:",
            ["compare", *data, "--per", "quarter", "--to-date", "--by", "route", *fiscal, *today],
        ),
        (
            "Prove it: the days and rows behind one number, recalculated from the rows:",
            [
                "trace",
                "compare",
                *data,
                "--per",
                "quarter",
                "--to-date",
                *fiscal,
                *today,
                "--row",
                "1",
                "--column",
                "revenue_change",
            ],
        ),
        (
            "Three companies, each in its own year, each against its own counterpart:",
            [
                "compare",
                "--config",
                str(folder / "companies.toml"),
                "--per",
                "quarter",
                "--to-date",
            ],
        ),
        (
            "Two tables, one answer: how full the boats were, from the bookings and the log:",
            [
                "compare",
                "--config",
                str(folder / "voyages.toml"),
                "--per",
                "quarter",
                "--to-date",
                "--by",
                "route",
                "--measure",
                "load",
                "--measure",
                "fuel_per_passenger",
            ],
        ),
        (
            "And a page to send on:",
            [
                "report",
                "--config",
                str(folder / "eptaro.toml"),
                "--out",
                str(folder / "ferries.html"),
            ],
        ),
    ]
    for title, arguments in steps:
        click.secho(f"\n{title}", bold=True)
        click.echo(f"$ eptaro {_as_typed_command(arguments)}\n")
        _run(arguments)


def _as_typed_command(arguments: list[str]) -> str:
    """Return the command as she would type it, over several lines where it is long."""
    lines, line = [], ""
    for word in map(shell_word, arguments):
        if line and word.startswith("--") and len(line) + len(word) > 70:
            lines.append(line)
            line = "   "
        line = f"{line} {word}" if line else word
    return " \\\n ".join([*lines, line])


def _run(arguments: list[str]) -> None:
    from eptaro.cli.app import app

    try:
        app.main(arguments, prog_name="eptaro", standalone_mode=False)
    except EptaroError as error:
        click.secho(fold_message(f"eptaro: {error}", sys.stdout), fg="yellow")
