"""A book's folder changed in one step: new files are written, then the manifest is swapped."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import check_planes, merge_metadata
from eptaro.core.aggregation.planes import Plane
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.query.book_options import BookOptions
from eptaro.core.query.coverage import PERIODS, asked_by_group, widen_coverage
from eptaro.errors import CalendarError, InputError
from eptaro.paths import StoragePath
from eptaro.storage.folder import leftovers
from eptaro.storage.folder.files import new_token
from eptaro.storage.folder.leftovers import lock_folder
from eptaro.storage.folder.manifest import Commit, Manifest, now, read_manifest
from eptaro.storage.folder.shard_writer import Rewritten, check_within, meet, slice_of, year_of
from eptaro.storage.folder.shardfiles import ShardFiles
from eptaro.storage.layout import NAME
from eptaro.storage.metadata import about_rows, options_about


@dataclass(frozen=True, eq=False)
class Transaction:
    """A change of a folder that is under way; nothing of it is seen before `commit`.

    `before` is the state that it starts from, `metadata` the metadata of the new rows.
    """

    folder: StoragePath
    before: Manifest
    about: Mapping[str, Any]
    metadata: Folded
    reading: Mapping[str, Any]
    out: Span | None
    newest: int
    token: str  # in the names of the files that it writes

    def shard(self, number: int) -> ShardFiles:
        """Return a shard as it was before."""
        return ShardFiles(self.folder, self.before, number, self.token)

    @property
    def touched(self) -> list[int]:
        """The shards that change whether they have new rows or not: those that lose some, or whose
        months become a year.
        """
        found, met = set[int](), set[tuple[int, int]]()
        for file in self.before.files:
            if file.role != "cells":
                continue
            slot = file.shard, int(slice_of(np.array([file.span.lo]), self.newest)[0])
            if slot in met or meet(file.span, self.out):
                found.add(file.shard)
            met.add(slot)
        return sorted(found)

    def commit(self, parts: Mapping[int, Rewritten]) -> Manifest:
        """Put the new manifest in the place of the one before; this is the one step that counts.

        Raises `InputError` where somebody else has changed the folder meanwhile.
        """
        before = self.before
        files = [file for file in before.files if file.shard not in parts]
        files += [file for _, part in sorted(parts.items()) for file in part.files]
        removed = sum(part.removed for part in parts.values())
        days = self.metadata.days
        change = Commit(
            now(),
            self.metadata.sources,
            self.metadata.rows,
            str(days.first),
            str(days.last),
            "" if self.out is None else str(self.out),
            removed,
        )
        made = replace(
            before,
            number=before.number + 1,
            written=change.at,
            groups=before.groups + sum(part.groups for part in parts.values()),
            about={**self.about, "rows": self.about["rows"] - removed},
            reading=before.reading or self.reading,
            changes=(*before.changes, change),
            files=tuple(files),
        )
        if before.number:
            if read_manifest(self.folder).number != before.number:
                raise InputError(
                    f"{self.folder}: somebody else has changed this book meanwhile; try again"
                )
            kept = self.folder / leftovers.BEFORE / f"{before.number:06d}.json"
            kept.write(lambda sink: sink.write(before.text().encode()))
        (self.folder / NAME).write(lambda sink: sink.write(made.text().encode()))
        with suppress(InputError):  # what is left over harms nobody, and the next change comes by
            leftovers.end(self.folder)
            leftovers.remove_old_manifests(self.folder, made)
        return made


@contextmanager
def begin_transaction(
    folder: StoragePath,
    metadata: Folded,
    planes: Iterable[Plane],
    options_given: BookOptions,
    *,
    shards: int,
    reading: Mapping[str, Any] | None = None,
    out: Span | None = None,
    force: bool = False,
) -> Iterator[Transaction]:
    """Begin to put rows into a folder, which is made where there is none; nobody else may
    meanwhile. `metadata` is the metadata of them, its groups named; the days `out` lose their rows.

    Raises `InputError` where somebody else is writing, where the book differs from what is to
    come in, or where rows are in it already, unless `force` has them count twice.
    """
    with lock_folder(folder):
        before = read_manifest(folder) if (folder / NAME).is_file() else None
        leftovers.clear(folder, before)
        if before is None:
            leftovers.check_empty(folder)
        change = _begun(
            folder, before, metadata, planes, options_given, shards, reading, out, force=force
        )
        leftovers.begin(folder, change.token)
        yield change


def _begun(
    folder: StoragePath,
    before: Manifest | None,
    metadata: Folded,
    planes: Iterable[Plane],
    options_given: BookOptions,
    shards: int,
    reading: Mapping[str, Any] | None,
    out: Span | None,
    *,
    force: bool,
) -> Transaction:
    """Return a change that can be made; raises `InputError` for one that cannot."""
    if out is not None:
        check_within(metadata.days, out, metadata.source)
    token, read = new_token(), reading or {}
    if before is None:
        about = {**about_rows(metadata), **options_about(options_given.settled(metadata), metadata)}
        kept = tuple((plane.what, plane.column) for plane in planes)
        empty = Manifest(0, "", shards, 0, about, kept)
        newest = year_of(metadata.cells.axis.last_day)
        return Transaction(folder, empty, about, metadata, read, out, newest, token)
    stored = before.metadata()
    _check_alike(folder, before, options_given, metadata, shards)
    check_planes((Plane(*plane) for plane in before.planes), planes)  # type: ignore[arg-type]
    try:
        both = merge_metadata(stored, metadata, force=force)
    except InputError as error:
        raise InputError(f"{folder}: {error}") from None
    options = _options_of_both(folder, before.options, options_given, metadata, both)
    both = replace(both, groups=metadata.groups)
    about = {**before.about, **about_rows(both), **options_about(options, both)}
    last = max(metadata.cells.axis.last_day, stored.cells.axis.last_day)
    return Transaction(folder, before, about, metadata, read, out, year_of(last), token)


def _check_alike(
    folder: StoragePath, before: Manifest, options_given: BookOptions, metadata: Folded, shards: int
) -> None:
    """Raise `InputError` where a folder's book is not one that the new rows can be put into."""
    by, own = metadata.groups.names, before.options
    if by != before.by:
        raise InputError(f"{folder}: is grouped by {before.by}, the new rows by {by}")
    if options_given.measures != own.measures:
        raise InputError(
            f"{folder}: its measures are {[*own.measures]}, those of the new rows "
            f"{[*options_given.measures]}"
        )
    if options_given.calendar is not None and options_given.calendar != own.calendar:
        raise InputError(
            f"{folder}: has another calendar than the new rows; leave theirs out, and ask the "
            f"book in any calendar with using()"
        )
    common = asked_by_group(options_given.coverage) is None
    if options_given.coverage is not None and common != (asked_by_group(own.coverage) is None):
        raise InputError(f"{folder}: only one of the books has a coverage by groups")
    if shards != before.shards:
        raise InputError(f"{folder}: somebody else has made this book meanwhile; try again")


def _options_of_both(
    folder: StoragePath,
    own: BookOptions,
    options_given: BookOptions,
    metadata: Folded,
    both: Folded,
) -> BookOptions:
    """Return the options of a folder's book together with new rows: the workdays of both, and the
    coverage of all rows, or one that contains what was declared for either.
    """
    added = replace(
        options_given, calendar=own.calendar, workdays=options_given.workdays or own.workdays
    )
    added = added.settled(metadata)
    assert isinstance(own.workdays, Workdays) and isinstance(added.workdays, Workdays)
    try:
        workdays = own.workdays.joined(added.workdays)
    except CalendarError as error:
        raise InputError(f"{folder}: {error}; leave those of the new rows out") from None
    declared, more = own.coverage, options_given.coverage
    if declared is not None and asked_by_group(declared) is not None:
        declared, more = None, None
    if (declared is None or declared in PERIODS) and more in (None, declared):
        joined = replace(own, workdays=workdays, span=None, coverage=declared).settled(both)
        span = joined.span
        if declared is not own.coverage:
            assert span is not None
            span = widen_coverage(asked_by_group(own.coverage), span)
        return replace(own, workdays=workdays, span=span)
    assert own.span is not None and added.span is not None
    lo, hi = min(own.span.lo, added.span.lo), max(own.span.hi, added.span.hi)
    return replace(own, workdays=workdays, span=Span.of(lo, hi), coverage=str(Span.of(lo, hi)))
