"""The `init` command: write an `eptaro.toml` for a file from what it holds."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Sequence
from dataclasses import asdict
from functools import partial
from pathlib import Path

import click

from eptaro.cli.data_options import ReadingOptions, reading_options, where_option
from eptaro.cli.help import OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import loudness_options, notify
from eptaro.cli.process import leave_pandas_out
from eptaro.core.calendars.grain import level_of
from eptaro.core.calendars.month import MonthCalendar
from eptaro.errors import InputError, unknown
from eptaro.rules import DateRules, in_calendar
from eptaro.urls import secrets_named

_MOST_NAMED = 20  # columns that are listed one by one


@click.command(
    cls=HeadedCommand,
    examples=(
        (
            "A config for a file, with a fiscal year",
            "init eptaro-demo/bookings.csv --year-starts 04-01 --out mine.toml",
        ),
        ("For a file with lines above its header", "init eptaro-demo/stores.csv --out stores.toml"),
    ),
)
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@option(QUESTION, "--date", metavar="COLUMN", default=None, help="The column of dates, if several.")
@where_option
@option(
    QUESTION,
    "--year-starts",
    metavar="MM-DD",
    default=None,
    help="First day of the fiscal year, if it is not 1 January.",
)
@option(
    OUTPUT,
    "--out",
    type=click.Path(path_type=Path),
    default=Path("eptaro.toml"),
    show_default=True,
    metavar="FILE",
    help="Where to write it.",
)
@option(OUTPUT, "--replace", is_flag=True, help="Replace an existing file.")
@reading_options
@loudness_options
def init(
    files: tuple[str, ...],
    date: str | None,
    where: str | None,
    year_starts: str | None,
    out: Path,
    replace: bool,
    reading: ReadingOptions,
) -> None:
    """Write an eptaro.toml for your file, with the dates, groups and measures found in it.

    Files with the same columns become one data set; others get one each, and questions cover all.
    """
    leave_pandas_out()
    from eptaro.engines.suggestion import suggest
    from eptaro.inputs.files.guessing import guess_file_rules
    from eptaro.inputs.files.opening import open_files
    from eptaro.outputs.files import replace_whole

    if out.exists() and not replace:
        raise InputError(f"{out}: already exists; give --replace or another --out")
    rules = reading.date_rules()
    if year_starts:
        rules = in_calendar(rules, MonthCalendar("fiscal", year_starts=year_starts))
    if rules.fiscal_periods is True:
        raise click.UsageError(
            "--fiscal-periods needs the fiscal year, such as --year-starts 04-01"
        )
    apart = _tables(files, reading)
    if len(apart) > 1:
        if where is not None or date is not None:
            raise click.UsageError("--date and --where are of one data set; write them into each")
        _init_set(apart, year_starts, out, reading, rules)
        return
    file_rules, remarks = guess_file_rules(files[0], reading.file_rules())
    for remark in remarks:
        notify(f"{files[0]}: {remark}")
    suggestion = suggest(open_files(list(files), file_rules), rules)
    date = _choose_date(date, list(suggestion.dates))
    variables = list[str]()
    named_files = _named_from(out, files, variables)
    text = suggestion.text(
        named_files, date, year_starts, asdict(file_rules), where, reading.number_rules()
    )
    replace_whole(out, partial(_write, text))
    words = [f"dates in {date}"]
    words += [f"groups in {_list_names(suggestion.groups)}"] if suggestion.groups else []
    words += [f"numbers in {_list_names(suggestion.numbers)}"] if suggestion.numbers else []
    grain = suggestion.grain_of(date)
    notify(f"written to {out}: {', '.join(words)}")
    if variables:
        notify(f"set first, with the secrets of the address: {', '.join(dict.fromkeys(variables))}")
    per = "month" if grain == "day" else level_of(grain)
    notify(f"next: eptaro recap --config {shlex.quote(str(out))} --per {per}")


def _named_from(out: Path, files: Sequence[str], variables: list[str]) -> list[str]:
    """Return files as a config names them: from its folder, addresses without their secrets."""
    folder, named_files = out.parent.resolve(), []
    for file in files:
        if "://" in file:
            named_files.append(secrets_named(file, lambda key: _variable(key, variables)))
        else:
            named_files.append(os.path.relpath(Path(file).resolve(), folder))
    return named_files


def _tables(files: Sequence[str], reading: ReadingOptions) -> list[list[str]]:
    """Return files in runs of those that have the same columns."""
    if len(files) < 2:
        return [[*files]]
    from eptaro.inputs.files.guessing import guess_file_rules
    from eptaro.inputs.files.opening import open_files

    files_by_columns: dict[tuple[str, ...], list[str]] = {}
    for file in files:
        file_rules, _ = guess_file_rules(file, reading.file_rules())
        names = tuple(sorted(open_files([file], file_rules).names()))
        files_by_columns.setdefault(names, []).append(file)
    return [*files_by_columns.values()]


def _init_set(
    apart: Sequence[list[str]],
    year_starts: str | None,
    out: Path,
    reading: ReadingOptions,
    rules: DateRules,
) -> None:
    """Write a config of several data sets, and say what they share."""
    from eptaro.engines.suggested_set import SuggestedTable, name_of_table, set_text, shared_groups
    from eptaro.engines.suggestion import suggest
    from eptaro.inputs.files.guessing import guess_file_rules
    from eptaro.inputs.files.opening import open_files
    from eptaro.outputs.files import replace_whole

    tables, variables = list[SuggestedTable](), list[str]()
    for files in apart:
        file_rules, remarks = guess_file_rules(files[0], reading.file_rules())
        for remark in remarks:
            notify(f"{files[0]}: {remark}")
        suggestion = suggest(open_files(files, file_rules), rules)
        name = name_of_table(files[0], [table.name for table in tables])
        date = _choose_date(None, list(suggestion.dates), files[0])
        named_files = _named_from(out, files, variables)
        tables.append(SuggestedTable(name, named_files, date, suggestion, asdict(file_rules)))
    replace_whole(out, partial(_write, set_text(tables, year_starts)))
    for table in tables:
        notify(f"{table.name}: dates in {table.date}, of {', '.join(table.files)}")
    for name, called in shared_groups(tables).items():
        odd = {table: own for table, own in called.items() if own != name}
        missing = "".join(f", {own} in {table}" for table, own in odd.items())
        notify(f"groups that they share: {name}{missing}")
    if variables:
        notify(f"set first, with the secrets of the address: {', '.join(dict.fromkeys(variables))}")
    notify(f"written to {out}; next: eptaro recap --config {shlex.quote(str(out))} --per month")


def _list_names(names: list[str]) -> str:
    """Return names in a row, of many the first."""
    more = f" and {len(names) - _MOST_NAMED:,} more" if len(names) > _MOST_NAMED else ""
    return ", ".join(names[:_MOST_NAMED]) + more


def _variable(key: str, used: list[str]) -> str:
    """Return how a config names the environment variable that holds a secret."""
    used.append(f"EPTARO_{re.sub(r'[^A-Za-z0-9]', '_', key).upper()}")
    return f"${{{used[-1]}}}"


def _write(text: str, path: Path) -> None:
    path.write_text(text, encoding="utf-8")


def _choose_date(date: str | None, columns: list[str], file: str = "") -> str:
    """Return the date column; where there are several, ask if somebody is there to answer."""
    if date is not None:
        if date not in columns:
            raise InputError(f"--date: {unknown('column of dates', date, columns)}")
        return date
    if len(columns) == 1:
        return columns[0]
    if not os.isatty(0):
        if file:
            return columns[0]
        raise InputError(f"several columns hold dates: {', '.join(columns)}; name one with --date")
    of = f" of {file}" if file else ""
    answer: str = click.prompt(
        f"Which dates{of} count?", type=click.Choice(columns), default=columns[0]
    )
    return answer
