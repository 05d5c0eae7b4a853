"""Changing a book's folder in one step: new files are written, then the manifest is replaced."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.aggregation.cells import Plane
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import check_planes, merge_metadata
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.query.book_options import BookOptions
from eptaro.core.query.coverage import WHOLE_PERIODS, asked_by_group, widen_coverage
from eptaro.errors import CalendarError, InputError
from eptaro.paths import Found, StoragePath, runs
from eptaro.record import record
from eptaro.storage.folder.files import SHARD_FILE, TOKEN, new_token
from eptaro.storage.folder.manifest import Commit, Manifest, manifest_of, now, read_manifest
from eptaro.storage.folder.shard_writer import ShardChange, check_within, meet, slice_of, year_of
from eptaro.storage.folder.shardfiles import ShardFiles
from eptaro.storage.layout import NAME
from eptaro.storage.metadata import about_rows, options_about

LOCK = ".writing"


@contextmanager
def lock_folder(folder: StoragePath) -> Iterator[None]:
    """Be the only one that changes a folder; the system lets go of it however the process ends.

    In an object store nobody is kept out: there the manifest is looked at once more before another
    is put in its place. Raises `InputError` where somebody else is writing.
    """
    local = folder.local
    if local is None:
        yield
        return
    with folder.describe_errors("written"):
        local.mkdir(parents=True, exist_ok=True)
        handle = os.open(local / LOCK, os.O_RDWR | os.O_CREAT, 0o666)
    try:
        try:
            _lock(handle)
        except OSError:
            raise InputError(
                f"{folder}: somebody else is changing this book; try again when that is done"
            ) from None
        yield
    finally:
        os.close(handle)


def _lock(handle: int) -> None:
    try:
        import fcntl
    except ImportError:  # Windows
        import msvcrt

        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        return
    fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)


GRACE = 3600  # seconds for which what a manifest of before names is kept
BEFORE = "manifests"
_CHANGING = ".changing"  # holds the token of a change that is under way
_OLD = re.compile(BEFORE + r"/\d{6,}\.json")
_BESIDE = re.compile(r"(?:(.*)/)?\.(.+)\.(\d+)")  # a file that is being written, and by whom


def begin(folder: StoragePath, token: str) -> None:
    """Write down the token of a change before it writes anything."""
    text = json.dumps({"book": "eptaro", "token": token}).encode()
    (folder / _CHANGING).write(lambda sink: sink.write(text))


def end(folder: StoragePath) -> None:
    """Forget the token of a change that is done."""
    (folder / _CHANGING).delete()


def clear(folder: StoragePath, manifest: Manifest | None) -> None:
    """Take away what a change left that was killed.

    In an object store, where nobody is kept out, that is done when it cannot be under way any more.
    """
    begun_once = (folder / _CHANGING).is_file()
    if folder.local is None and not begun_once:
        return
    token = _token(folder) if begun_once else None
    files = [file for file in folder.within() if _is_ours(folder, file)]
    begun = next((file.changed for file in files if file.inside == _CHANGING), 0.0)
    if folder.local is None and begun > time.time() - GRACE:
        return
    paths_named = set() if manifest is None else {file.path for file in manifest.files}
    for file in files:
        beside = _BESIDE.fullmatch(file.inside)
        inside = file.inside
        if beside is not None:
            if runs(int(beside[3])):
                continue
            inside = f"{beside[1]}/{beside[2]}" if beside[1] else beside[2]
        match = SHARD_FILE.fullmatch(inside)
        ours = match is not None and match[1] == token and inside not in paths_named
        if ours or (beside is not None and (inside in (NAME, _CHANGING) or _OLD.fullmatch(inside))):
            file.place.delete()
    if begun_once:
        end(folder)


def _token(folder: StoragePath) -> str | None:
    """Return the token of the change that was under way, None where that cannot be read."""
    with suppress(ValueError, KeyError, TypeError, InputError):
        fields_read = json.loads((folder / _CHANGING).read())
        if fields_read["book"] == "eptaro" and TOKEN.fullmatch(fields_read["token"]):
            return str(fields_read["token"])
    return None


def check_empty(folder: StoragePath) -> None:
    """Raise `InputError` where a folder that is to be made is there and holds something."""
    for file in folder.within():
        if file.inside not in (LOCK, _CHANGING):
            raise InputError(
                f"{folder}: is a folder of other things ({file.inside}); name a new one"
            )


def remove_old_manifests(
    folder: StoragePath, manifest: Manifest, grace: float | None = None
) -> None:
    """Take away manifests of before that nobody reads by any more, and what they alone name."""
    until = time.time() - (GRACE if grace is None else grace)
    paths_named = {file.path for file in manifest.files}
    files = {file.inside: file for file in folder.within() if _is_ours(folder, file)}
    old = [file for inside, file in files.items() if _OLD.fullmatch(inside)]
    gone, unused = list[Found](), set[str]()
    for file in old:
        with suppress(InputError):  # a damaged one names nothing for sure
            paths = {own.path for own in manifest_of(file.place.read(), str(file.place)).files}
            if file.changed < until:
                gone.append(file)
                unused |= paths
            else:
                paths_named |= paths
    for path in sorted(unused - paths_named):
        if path in files:
            files[path].place.delete()
    for file in gone:
        file.place.delete()


def _is_ours(folder: StoragePath, file: Found) -> bool:
    """Return whether a file is no link, and lies in no folder that is one."""
    local = folder.local
    if local is None:
        return True
    at = local
    for part in file.inside.split("/"):
        at = at / part
        if at.is_symlink():
            return False
    return True


@record
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
    def touched_shards(self) -> list[int]:
        """The shards that change whether they have new rows or not: those that lose some, or whose
        months become a year.
        """
        shards, met = set[int](), set[tuple[int, int]]()
        for file in self.before.files:
            if file.role != "cells":
                continue
            slot = file.shard, int(slice_of(np.array([file.span.lo]), self.newest)[0])
            if slot in met or meet(file.span, self.out):
                shards.add(file.shard)
            met.add(slot)
        return sorted(shards)

    def commit(self, parts: Mapping[int, ShardChange]) -> Manifest:
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
        manifest = replace(
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
            archive = self.folder / BEFORE / f"{before.number:06d}.json"
            archive.write(lambda sink: sink.write(before.text().encode()))
        (self.folder / NAME).write(lambda sink: sink.write(manifest.text().encode()))
        with suppress(InputError):  # what is left over harms nobody, and the next change comes by
            end(self.folder)
            remove_old_manifests(self.folder, manifest)
        return manifest


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
        clear(folder, before)
        if before is None:
            check_empty(folder)
        change = _begin(
            folder, before, metadata, planes, options_given, shards, reading, out, force=force
        )
        begin(folder, change.token)
        yield change


def _begin(
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
    token, settings = new_token(), reading or {}
    if before is None:
        about = {**about_rows(metadata), **options_about(options_given.settle(metadata), metadata)}
        plane_keys = tuple((plane.what, plane.column) for plane in planes)
        empty = Manifest(0, "", shards, 0, about, plane_keys)
        newest = year_of(metadata.cells.axis.last_day)
        return Transaction(folder, empty, about, metadata, settings, out, newest, token)
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
    return Transaction(folder, before, about, metadata, settings, out, year_of(last), token)


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
    added = added.settle(metadata)
    assert isinstance(own.workdays, Workdays) and isinstance(added.workdays, Workdays)
    try:
        workdays = own.workdays.union(added.workdays)
    except CalendarError as error:
        raise InputError(f"{folder}: {error}; leave those of the new rows out") from None
    declared, more = own.coverage, options_given.coverage
    if declared is not None and asked_by_group(declared) is not None:
        declared, more = None, None
    if (declared is None or declared in WHOLE_PERIODS) and more in (None, declared):
        merged = replace(own, workdays=workdays, span=None, coverage=declared).settle(both)
        span = merged.span
        if declared is not own.coverage:
            assert span is not None
            span = widen_coverage(asked_by_group(own.coverage), span)
        return replace(own, workdays=workdays, span=span)
    assert own.span is not None and added.span is not None
    lo, hi = min(own.span.lo, added.span.lo), max(own.span.hi, added.span.hi)
    return replace(own, workdays=workdays, span=Span.of(lo, hi), coverage=str(Span.of(lo, hi)))
