"""Options on how files and dates are read, and what they come to."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import click

from eptaro.cli.help import DATES, FILES, option
from eptaro.cli.options import option_group
from eptaro.core.calendars.grain import GRAINS, Grain
from eptaro.rules.dates import ORDERS, SERIALS, UNIX, DateRules
from eptaro.rules.files import FileRules, usual_delimiter
from eptaro.rules.numbers import THOUSANDS, NumberRules, Numbers


@dataclass(frozen=True)
class ReadingOptions:
    """How dates and files are written; None, or nothing, where that is not said."""

    order: str | None
    formats: tuple[str, ...]
    month_names: str | None
    pivot: int | None
    serials: str | None
    unix: str | None
    zone: str | None
    day_starts: str | None
    grain: Grain | None
    blanks: tuple[str, ...]
    bad_dates: str | None
    aside: Path | None
    delimiter: str | None
    encoding: str | None
    decimal: str | None
    header_row: int | None
    like: str | None
    sheet: str | None
    query: str | None
    numbers: Literal["strict", "infer"] | None
    thousands: str | None
    strip: tuple[str, ...]
    brackets: bool
    trailing_minus: bool
    percents: bool
    blank_numbers: tuple[str, ...]

    def number_rules(self, others: Numbers = None) -> Numbers:
        """Return the number rules of the options, over others such as those of a config.

        Raises `click.UsageError` for `--numbers infer` beside single rules.
        """
        said = _given(
            {
                "thousands": self.thousands,
                "strip": self.strip,
                "brackets": self.brackets or None,
                "trailing_minus": self.trailing_minus or None,
                "percent": self.percents or None,
                "blanks": self.blank_numbers,
            }
        )
        if not said:
            return self.numbers or others
        if self.numbers is not None:
            raise click.UsageError(f"--numbers {self.numbers} goes without rules of your own")
        if self.decimal is not None:
            said["decimal"] = self.decimal
        return replace(others if isinstance(others, NumberRules) else NumberRules(), **said)

    def date_rules(self, others: DateRules | None = None) -> DateRules:
        """Return the date rules of the options, over others such as those of a config."""
        said = {
            "order": self.order,
            "formats": self.formats,
            "locale": self.month_names,
            "pivot": self.pivot,
            "serials": self.serials,
            "unix": self.unix,
            "zone": self.zone,
            "day_starts": self.day_starts,
            "grain": self.grain,
            "blanks": self.blanks,
            "bad_dates": "set aside" if self.bad_dates == "set-aside" else self.bad_dates,
        }
        return replace(others or DateRules(), **_given(said))

    def file_rules(self, others: FileRules | None = None) -> FileRules:
        """Return the file rules of the options, over others such as those of a config."""
        mark = "\t" if self.delimiter in ("tab", "\\t") else self.delimiter
        said = {
            "delimiter": mark,
            "encoding": self.encoding,
            "decimal": self.decimal,
            "header_row": self.header_row,
            "like": self.like,
            "sheet": self.sheet,
            "query": self.query,
        }
        given, others = _given(said), others or FileRules()
        if others.delimiter == usual_delimiter(others.decimal):
            given.setdefault("delimiter", "")  # as it is usual beside the decimal mark
        return replace(others, **given)


def _given(said: dict[str, Any]) -> dict[str, Any]:
    """Return what was said of the options."""
    return {name: value for name, value in said.items() if value not in (None, ())}


reading_options = option_group(
    "reading",
    ReadingOptions,
    option(
        DATES,
        "--order",
        type=click.Choice(ORDERS),
        default=None,
        help="How the parts of date text are ordered; infer goes by the evidence.",
    ),
    option(
        DATES,
        "--date-format",
        "formats",
        metavar="FORMAT",
        multiple=True,
        help="How dates are written, such as %d.%m.%Y. May be given again.",
    ),
    option(
        DATES,
        "--month-names",
        metavar="LOCALE",
        default=None,
        help="The language of month names in dates, such as fr.",
    ),
    option(
        DATES,
        "--pivot",
        type=click.IntRange(0, 99),
        default=None,
        help="Two-digit years up to this one are in the 2000s, later ones in the 1900s.",
    ),
    option(
        DATES,
        "--serials",
        type=click.Choice(SERIALS),
        default=None,
        help="Dates are numbers of days, as spreadsheets store them.",
    ),
    option(
        DATES,
        "--unix",
        type=click.Choice(UNIX),
        default=None,
        help="Dates are numbers of time since 1970-01-01 UTC.",
    ),
    option(
        DATES,
        "--grain",
        type=click.Choice(GRAINS),
        default=None,
        help="The periods that dates stand for, where that does not show: 200601, 1987.",
    ),
    option(
        DATES,
        "--zone",
        metavar="NAME",
        default=None,
        help="The time zone whose days are meant, where times have an offset: Europe/Lisbon.",
    ),
    option(
        DATES,
        "--day-starts",
        metavar="HH:MM",
        default=None,
        help="Times before it belong to the day before.  [default: 00:00]",
    ),
    option(
        DATES,
        "--blank-date",
        "blanks",
        metavar="VALUE",
        multiple=True,
        help="A value that stands for no date, such as 1900-01-01. May be given again.",
    ),
    option(
        DATES,
        "--bad-dates",
        type=click.Choice(["raise", "set-aside"]),
        default=None,
        help="Stop at dates that cannot be read, or go on without their rows.",
    ),
    option(
        DATES,
        "--aside",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Where the rows set aside are listed.  [default: FILE.aside.csv]",
    ),
    option(
        FILES,
        "--delimiter",
        default=None,
        metavar="MARK",
        help="The mark between the fields of a CSV file.",
    ),
    option(
        FILES,
        "--encoding",
        default=None,
        metavar="NAME",
        help="The encoding of a CSV file, such as latin-1.",
    ),
    option(
        FILES,
        "--decimal",
        type=click.Choice([".", ","]),
        default=None,
        help="The decimal mark in CSV files.",
    ),
    option(
        FILES,
        "--header-row",
        type=int,
        default=None,
        metavar="N",
        help="The line of a CSV file that names the columns, where others stand above it.",
    ),
    option(
        FILES,
        "--like",
        default=None,
        metavar="ENDING",
        help="Read files as if they had this ending, such as csv for a .txt.",
    ),
    option(FILES, "--sheet", default=None, metavar="NAME", help="The sheet of a workbook."),
    option(
        FILES,
        "--query",
        default=None,
        metavar="SQL",
        help="With a database address for FILE: the rows to read.",
    ),
    option(
        FILES,
        "--numbers",
        type=click.Choice(["strict", "infer"]),
        default=None,
        help="Numbers in text: plain ones alone, or as all of a column says they are written.  "
        "[default: strict]",
    ),
    option(
        FILES,
        "--thousands",
        type=click.Choice(THOUSANDS),
        default=None,
        help="The mark between groups of three digits.",
    ),
    option(
        FILES,
        "--strip",
        metavar="WORD",
        multiple=True,
        help="A sign or unit beside numbers, such as $ or kg. May be given again.",
    ),
    option(FILES, "--brackets", is_flag=True, help="Numbers in brackets are negative."),
    option(FILES, "--trailing-minus", is_flag=True, help="The sign may stand behind: 12-."),
    option(FILES, "--percents", is_flag=True, help="Numbers before % are hundredths."),
    option(
        FILES,
        "--blank-number",
        "blank_numbers",
        metavar="WORD",
        multiple=True,
        help="A word for no number, such as NA. May be given again.",
    ),
)
