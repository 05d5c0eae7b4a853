"""Rows put into a book's folder, folded by the engine that is named; all of them or none."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import fields, replace
from functools import partial
from pathlib import Path
from typing import Any

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.shards import partition_cells
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.kinds import from_settings
from eptaro.core.calendars.span import Span
from eptaro.core.kernels.parallel import run_parallel
from eptaro.core.measures.measure import Measure
from eptaro.core.query.book_options import BookOptions
from eptaro.core.query.query import By
from eptaro.core.query.view import BookData
from eptaro.core.verbs.store import Store
from eptaro.engines.buffers import fold_pieces, shards_for, without_cells
from eptaro.engines.local import source_of
from eptaro.errors import InputError, as_path, spell_option
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.options import AddOptions, FileOptions
from eptaro.inputs.sources import ManyFiles, Source
from eptaro.paths import StoragePath
from eptaro.progress import report_progress
from eptaro.rules import Across, DateRules, FileRules, Lookup, NumberRules, across_of, lookups_of
from eptaro.sharded.store import ShardStore
from eptaro.storage.folder.manifest import Manifest, read_manifest
from eptaro.storage.folder.shard_writer import ShardChange, rewrite_shard
from eptaro.storage.folder.transaction import Transaction, begin_transaction
from eptaro.storage.layout import NAME
from eptaro.storage.metadata import options_of


def settings_of(options: FileOptions) -> dict[str, Any]:
    """Return how files are read as JSON takes it; of lookups, those that are files."""
    numbers, across = options.numbers, across_of(options.across)
    return {
        "date": options.date,
        "by": _names(options.by),
        "dates": _changed_rules(options.rules),
        "files": None if options.files is None else _changed_rules(options.files),
        "numbers": _changed_rules(numbers) if isinstance(numbers, NumberRules) else numbers,
        "lookups": [_lookup(lookup) for lookup in lookups_of(options.lookups)],
        "values": _names(options.values),
        "where": options.where,
        "across": None if across is None else vars(across),
        "adjustments": options.adjustments,
    }


def options_before(manifest: Manifest, measures: Sequence[Measure]) -> FileOptions:
    """Return how the files of a book were read that are in it."""
    calendar = manifest.options.calendar
    reading: Mapping[str, Any] = manifest.reading
    if not reading:
        return FileOptions(measures=measures, by=manifest.by, calendar=calendar)
    numbers, files, across = reading["numbers"], reading["files"], reading.get("across")
    lookups = []
    for lookup in reading["lookups"]:
        if lookup["table"] is None:
            raise InputError(
                "the book's rows took columns from a table in memory; give it with lookups="
            )
        own = lookup["files"]
        rules = None if own is None else FileRules(**own)
        lookups.append(Lookup(**{**lookup, "files": rules}))
    return FileOptions(
        measures=measures,
        date=reading["date"],
        by=reading["by"],
        calendar=calendar,
        dates=_date_rules(reading["dates"]),
        files=None if files is None else FileRules(**files),
        numbers=NumberRules(**numbers) if isinstance(numbers, dict) else numbers,
        lookups=lookups or None,
        values=reading["values"],
        where=reading["where"],
        across=None if across is None else Across(**across),
        adjustments=reading.get("adjustments"),
    )


def _names(names: By) -> list[str]:
    """Return names of columns, as they were given, in a list."""
    return [] if names is None else [names] if isinstance(names, str) else list(names)


def _changed_rules(rules: Any) -> dict[str, Any]:
    """Return what rules say beside their defaults."""
    plain = type(rules)()
    rules_given = {
        field.name: getattr(rules, field.name)
        for field in fields(rules)
        if field.init and getattr(rules, field.name) != getattr(plain, field.name)
    }
    return {name: _in_json(value) for name, value in rules_given.items()}


def _in_json(value: Any) -> Any:
    if isinstance(value, Calendar):
        return value.settings()
    return list(value) if isinstance(value, tuple) else value


def _date_rules(rules: Mapping[str, Any]) -> DateRules:
    periods = rules.get("fiscal_periods")
    if isinstance(periods, dict):
        return DateRules(**{**rules, "fiscal_periods": from_settings(periods)})
    return DateRules(**rules)


def _lookup(one: Lookup) -> dict[str, Any]:
    is_file = isinstance(one.table, str | Path)
    return {
        "table": str(one.table) if is_file else None,
        "key": one.key,
        "other": one.other,
        "first": one.first,
        "through": one.through,
        "files": None if one.files is None else _changed_rules(one.files),
    }


ShardParts = Mapping[int, Callable[[], Folded]]


def put_files(
    folder: StoragePath,
    paths: list[str],
    options: FileOptions,
    *,
    out: Span | None = None,
    force: bool = False,
) -> Manifest:
    """Fold files and put their rows into a folder, which is made where there is none."""
    spec, files = options.spec, open_files(paths, options.files)
    metadata, pieces = fold_pieces(
        source_of(files, options), spec, shards=shards_in(folder, options.shards)
    )
    metadata = replace(metadata, fingerprints=fingerprints_of(files))
    assert pieces.shards is not None
    return put_shards(
        *(folder, metadata, partial(write_shards, pieces.parts()), options.book, pieces.shards),
        reading=settings_of(options),
        out=out,
        force=force,
    )


def fingerprints_of(source: Source) -> frozenset[str]:
    """Return what distinguishes each file of a source from others."""
    files = source.parts if isinstance(source, ManyFiles) else [source]
    return frozenset(file.fingerprint() for file in files)


def put_folded(
    folder: StoragePath,
    folded: Folded,
    options_given: BookOptions,
    *,
    shards: int | None = None,
    out: Span | None = None,
    force: bool = False,
    new: bool = False,
) -> Manifest:
    """Put what is folded already into a folder, which is made where there is none, or is to be
    `new`.
    """
    if new and (folder / NAME).is_file():
        raise InputError(f"{folder}: there is a book already; open it, and add to it")
    count = shards_in(folder, shards)
    if count is None:
        count = shards_for(folded.cells.axis.size) if folded.groups.names else 1
    parts: ShardParts = {n: partial(_as_given, part) for n, part in partition_cells(folded, count)}
    work = partial(write_shards, parts)
    return put_shards(
        folder, without_cells(folded), work, options_given, count, out=out, force=force
    )


def _as_given(part: Folded) -> Folded:
    return part


def shards_in(folder: StoragePath, count: int | None) -> int | None:
    """Return how many shards a folder has, or is to have, where that is settled."""
    if (folder / NAME).is_file():
        return read_manifest(folder).shards
    return count


def put_shards(
    folder: StoragePath,
    metadata: Folded,
    carry_out: Callable[[Transaction], dict[int, ShardChange]],
    options_given: BookOptions,
    shards: int,
    *,
    reading: Mapping[str, Any] | None = None,
    out: Span | None = None,
    force: bool = False,
) -> Manifest:
    """Put shards into a folder, in one step; `carry_out` writes those that have new rows."""
    planes = options_given.kept_planes
    with begin_transaction(
        folder,
        metadata,
        planes,
        options_given,
        shards=shards,
        reading=reading,
        out=out,
        force=force,
    ) as change:
        rewritten = carry_out(change)
        for number in change.touched_shards:
            if number not in rewritten:
                rewritten[number] = rewrite_shard(
                    change.shard(number), None, change.out, change.newest
                )
        return change.commit(rewritten)


def write_shards(parts: ShardParts, change: Transaction) -> dict[int, ShardChange]:
    """Write the shards that have new rows, several side by side."""
    done = 0

    def one(number: int) -> ShardChange:
        nonlocal done
        rewritten = rewrite_shard(change.shard(number), parts[number](), change.out, change.newest)
        done += 1
        report_progress(0, done / len(parts))
        return rewritten

    numbers = sorted(parts)
    return dict(
        zip(numbers, run_parallel([partial(one, number) for number in numbers]), strict=True)
    )


def add_rows(store: Store, rows: Any, options: AddOptions) -> ShardStore:
    """Return the store of a folder with more rows: files, or the facts of another book.

    Raises `InputError` where workers alone hold the book, or for what `put_shards` refuses.
    """
    out, force = options.days, options.force
    assert isinstance(store, ShardStore)
    folder = store.folder
    if folder is None:
        raise InputError("the workers hold this book; fold it into a folder to add to it")
    if isinstance(rows, BookData):
        rewritten = put_folded(folder, rows.folded, options_of(rows), out=out, force=force)
        return store.of_manifest(rewritten)
    inputs = [rows] if isinstance(rows, str | Path) else [*rows]
    manifest = store.manifest
    if not manifest.reading and options.date is None:
        raise InputError(
            f"{folder}: no file has been folded into this book; name the "
            f"column of dates with {spell_option('date=', '--date COLUMN')}"
        )
    before = options_before(manifest, store.about.measures)
    joined_options = options.over(before)
    paths = [str(path) for path in inputs if as_path(path)]
    return store.of_manifest(put_files(folder, paths, joined_options, out=out, force=force))
