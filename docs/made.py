"""Pages made from the code while the site is built: measures, columns, and the gallery."""

from __future__ import annotations

import contextlib
import inspect
import io
import os
import shlex
import tempfile
from pathlib import Path

import eptaro as ep
from eptaro.cli.app import run
from eptaro.core.measures.calculations import CATALOGUE

CONFIG = "--config eptaro-demo/eptaro.toml"
FILE = "eptaro-demo/bookings.csv --date sailed_on --measure 'revenue=sum(fare)'"
MONTHS = "--per month --by route"
GALLERY = {
    "Quarters as bars, the unfinished one hatched": f"recap {FILE} --per quarter",
    "A panel for each group": f"recap {FILE} --per quarter --by route",
    "Groups as lines, a panel for each measure": f"recap {CONFIG} {MONTHS} --kind lines",
    "Areas, in the dark theme": f"recap {FILE} {MONTHS} --kind areas --theme dark",
    "Days as a sheet": f"recap {FILE} --per day --only 2024-01-01..2025-08-20 --kind sheet",
    "The year to date over the years before": f"accumulate {CONFIG} --within year",
    "Running totals of each group": f"accumulate {FILE} --within year --by route",
    "Twelve months to each month's end": f"trail {CONFIG} --back '1 year' --every month --by route",
    "Four weeks to each day": f"trail {FILE} --back '28 days'",
    "Quarters beside those of the year before": f"compare {FILE} --per quarter",
    "Changes of each group": f"compare {CONFIG} --per quarter --to-date --by route",
    "The steps from the prior value to this one": f"compare {FILE} --per quarter --to-date "
    "--by route --kind steps",
    "A year to date, day by day": f"compare {FILE} --per year --to-date --every day",
    "Weekdays by hours": f"rhythm {FILE} --per weekday --across hour",
    "Weekdays": f"rhythm {FILE} --per weekday",
    "Boxes of a column": f"rhythm {FILE} --spread fare --per weekday",
    "A histogram": f"rhythm {FILE} --histogram fare",
}


def measures() -> str:
    """Return the page of the calculations that measures are made of."""
    head = ["name", "what it is", "unit", "parts add up", "the fold keeps"]
    lines = ["# Measures", "", "| " + " | ".join(head) + " |", "|---" * len(head) + "|"]
    for name, one in CATALOGUE.items():
        said = " ".join((inspect.getdoc(one) or "").split())
        argument = (
            "column, share" if one.takes_share else "column" if one.needs_column else "[column]"
        )
        adds = "yes" if one.adds_up else "no: totals are worked out over all their transactions"
        lines.append(
            f"| `{name}({argument})` | {said} | {one.unit} | {adds} | {', '.join(one.stored)} |"
        )
    return "\n".join([*lines, ""])


def columns() -> str:
    """Return the page of the columns of every answer: name, kind, unit and meaning."""
    book = ep.Daybook(
        {"at": ["2024-01-30 10:00", "2025-01-31 11:00"], "shop": ["a", "b"], "x": [1, 2]},
        date="at", by="shop", measures="takings=sum(x)",
    )  # fmt: skip
    answers = {
        "recap": book.recap("month", by="shop", shares=True, ranks=True, subtotals="year"),
        "recap, every entry": book.recap("month", by="shop", every="entry"),
        "accumulate": book.accumulate("year", by="shop", goals={"2025": 5}),
        "card": book.card(by="shop"),
        "trail": book.trail("6 months", every="month", by="shop"),
        "compare": book.compare("month", by="shop", details=True, effects="workdays"),
        "compare, day by day": book.compare("month", to_date=True, every="day", by="shop"),
        "compare, mean of several": book.compare("month", mean_of=2),
        "rhythm": book.rhythm("weekday", "hour", by="shop"),
        "spread": book.spread("x", "weekday"),
        "histogram": book.histogram("x", "weekday"),
        "inspect": ep.inspect({"on": ["2025-01-01"]}, date="on"),
        "dimension": ep.dimension("2025-01-01", "2025-01-31", columns="all", as_of="2025-01-05"),
    }
    lines = [
        "# Columns",
        "",
        "What each column of an answer holds; `table.describe()` tells it too.",
        "",
    ]
    for name, table in answers.items():
        lines += [f"## {name}", "", "| column | kind | unit | what it holds |", "|---|---|---|---|"]
        for row in table.describe().rows():
            told = str(row["description"] or "").replace("|", "\\|")
            lines.append(f"| `{row['column']}` | {row['kind']} | {row['unit'] or ''} | {told} |")
        lines.append("")
    return "\n".join(lines)


def gallery(folder: Path) -> str:
    """Draw every kind of picture by its command, and return the page that shows them."""
    lines = ["# Gallery", "", "Each picture with the command that drew it, on the demo's data. In "
             "SVG every mark tells its days and value when you point at it.", ""]  # fmt: skip
    with tempfile.TemporaryDirectory() as demo, contextlib.chdir(demo):
        done("demo")
        for number, (title, words) in enumerate(GALLERY.items(), 1):
            file = f"picture-{number:02d}.svg"
            done(f"{words} --rows 4 --plot {shlex.quote(str(folder / file))}")
            lines += [
                f"## {title}",
                "",
                "```console",
                f"$ eptaro {words} --plot picture.svg",
                "```",
                "",
            ]
            lines += [f"![{title}]({file})", ""]
    return "\n".join(lines)


def done(words: str) -> str:
    """Run a command and return what it prints; raise where it fails."""
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        status = run(shlex.split(words))
    if status:
        raise RuntimeError(f"eptaro {words}: {out.getvalue()}")
    return out.getvalue()


def write(folder: Path) -> None:
    """Write all pages to a folder; what is the same already is left, so that builds stay quick."""
    folder.mkdir(exist_ok=True)
    pages = {"measures.md": measures(), "columns.md": columns(), "gallery.md": gallery(folder)}
    for name, text in pages.items():
        target = folder / name
        if not target.exists() or target.read_text(encoding="utf-8") != text:
            target.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    os.environ.setdefault("MPLBACKEND", "agg")
    write(Path(__file__).parent / "made")
