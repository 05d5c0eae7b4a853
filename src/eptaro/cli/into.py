"""Books in folders on the command line: made, added to, and shown."""

from __future__ import annotations

import click
import numpy as np

from eptaro.cli.data import DataOptions, RowsToFold
from eptaro.cli.options import CalendarOptions
from eptaro.cli.reading import ReadingOptions
from eptaro.cli.settings import Settings
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.span import Span
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import dates
from eptaro.core.tables.table import Table
from eptaro.daybook import Daybook
from eptaro.errors import InputError
from eptaro.places import Place
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import parse_lookup
from eptaro.sharded.adding import Again, add_rows
from eptaro.sharded.store import ShardStore
from eptaro.storage.folder.manifest import Addition


def folded_into(folder: str, rows: RowsToFold, data: DataOptions, shards: int | None) -> Daybook:
    """Return the book of a new folder."""
    if data.engine == "sql":
        raise click.UsageError("--engine sql folds in the database; give --out")
    if rows.date is None:
        raise click.UsageError("Missing option '--date' (--into does not look for it).")
    if rows.across is not None:
        raise click.UsageError("columns across are read without --into")
    return Daybook.read(
        rows.files,
        date=rows.date,
        measures=rows.measures,
        engine=data.engine,
        client=data.client,
        by=rows.by,
        calendar=rows.calendar,
        coverage=rows.coverage,
        dates=rows.dates,
        files=rows.written,
        workdays=rows.workdays,
        values=rows.values,
        where=rows.where,
        numbers=rows.numbers,
        lookups=rows.lookups,
        into=folder,
        shards=shards,
        patience=data.patience,
    )


def added(
    folder: str,
    data: DataOptions,
    reading: ReadingOptions,
    rules: CalendarOptions,
    replace_days: str | None,
    *,
    force: bool,
) -> str:
    """Add files to a folder, read as those before were, but for what options say, and return what
    came of it.
    """
    book = ShardStore.open(Place.of(folder))
    settings = Settings(rules)
    files = settings.rows_to_fold(data, reading).files if not data.files else list(data.files)
    for option, given, own in (
        ("--measure", data.measures, [f"{m.name}={m.formula}" for m in book.about.measures]),
        ("--by", data.by, book.manifest.by),
        ("--where", [data.where] if data.where else [], [book.manifest.reading.get("where")]),
    ):
        odd = [one for one in given if one not in own and one != "all"]
        if odd:
            raise InputError(
                f"{folder}: has {option} {', '.join(str(one) for one in own)}; leave {odd[0]!r} out"
            )
    if data.columns_across:
        raise click.UsageError("columns across are read without --into")
    dates, written = settings.date_rules(reading), settings.file_rules(reading)
    numbers = reading.number_rules()
    again = Again(
        date=data.date,
        dates=None if dates == DateRules() else dates,
        files=None if written == FileRules() else written,
        numbers=numbers,
        lookups=[*map(parse_lookup, data.lookups)] or None,
        coverage=settings.coverage(data.coverage),
        workdays=settings.workdays if settings.config and settings.config.has_workdays else None,
    )
    out = None if replace_days is None else Span.parse(replace_days)
    made = add_rows(book, files, again, out=out, force=force)
    change = made.manifest.changes[-1]
    told = f"{change.rows:,} rows of {change.first}..{change.last} added to {folder}"
    if change.replaced:
        told += f", in the place of {change.removed:,} of {change.replaced}"
    about = made.about
    return f"{told}: {about.rows:,} rows in {about.groups.count:,} groups, {about.coverage}"


def shown_changes(folder: str) -> tuple[Table, list[str]]:
    """Return the changes of a book's folder, and lines on the book as a whole."""
    book = ShardStore.open(Place.of(folder))
    manifest, changes = book.manifest, book.manifest.changes
    size = sum(file.size for file in manifest.files)
    lines = [
        f"{folder}: {book.about.rows:,} rows, {book.about.coverage}",
        f"groups: {', '.join(manifest.by) or 'none'}",
        f"measures: {', '.join(f'{m.name} = {m.formula}' for m in book.about.measures)}",
        f"calendar: {book.about.calendar.describe()}",
        f"{manifest.groups:,} groups, {manifest.cells:,} cells, {size / 2**20:,.1f} MiB; shards: "
        f"{manifest.shards:,}, files: {len(manifest.files):,}",
    ]
    return _table(changes), lines


def _table(changes: tuple[Addition, ...]) -> Table:
    def text(name: str, words: list[str], description: str) -> Column:
        codes = np.where(np.array([bool(word) for word in words]), np.arange(len(words)), -1)
        choices = np.array([*words, None], object)[:-1]
        return Column.text(name, choices, codes, description=description)

    def days(name: str, given: list[str], description: str) -> Column:
        return dates(name, np.array([*map(ordinal, given)], np.int64), None, description)

    return Table(
        [
            Column.of("change", "integer", np.arange(1, len(changes) + 1)),
            text("at", [one.at for one in changes], "When, in UTC"),
            Column.of("rows", "integer", [one.rows for one in changes], description="Rows added"),
            days("first", [one.first for one in changes], "Their first day"),
            days("last", [one.last for one in changes], "Their last day"),
            text("replaced", [one.replaced for one in changes], "The days that lost their rows"),
            Column.of(
                "removed",
                "integer",
                np.array([one.removed for one in changes]),
                np.array([bool(one.replaced) for one in changes]),
                description="How many rows these were",
            ),
            text("files", [", ".join(one.files) for one in changes], "Where the rows came from"),
        ]
    )
