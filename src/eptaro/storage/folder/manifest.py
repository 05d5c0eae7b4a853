"""`Manifest`: which files a book's folder is made of, and the metadata of them as a whole."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, field, fields, replace
from datetime import UTC, datetime
from functools import cached_property
from itertools import product
from typing import Any, Literal

import numpy as np

from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Groups
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.span import Span
from eptaro.core.query.book_options import BookOptions
from eptaro.digest import digest_of
from eptaro.errors import InputError
from eptaro.paths import StoragePath
from eptaro.record import Record, record
from eptaro.storage.folder.files import SHARD_FILE
from eptaro.storage.layout import NAME, damage
from eptaro.storage.metadata import options_from_metadata, rows_from_metadata, texts

LAYOUT = 2
Role = Literal["groups", "values", "cells"]


@record
class FileEntry(Record):
    """A file of a shard: its rows, its bytes, and the days or the column that it is of."""

    role: Role
    shard: int
    path: str
    rows: int
    size: int
    first: str = ""
    last: str = ""
    column: str = ""
    digest: str = ""

    @property
    def span(self) -> Span:
        """The days from the first to the last, of cells."""
        return Span.of(ordinal(self.first), ordinal(self.last))


@record
class Commit(Record):
    """One step by which rows came in, or were put in the place of others."""

    at: str
    files: tuple[str, ...]
    rows: int
    first: str
    last: str
    replaced: str = ""  # the days whose rows were taken out
    removed: int = 0  # how many these were


@record
class Manifest(Record):
    """The state of a book's folder.

    `about` is what a book's file says of itself, `reading` how its files were read,
    `planes` what is kept, as pairs of what and column.
    """

    number: int
    written: str
    shards: int
    groups: int
    about: Mapping[str, Any]
    planes: tuple[tuple[str, str], ...]
    reading: Mapping[str, Any] = field(default_factory=dict)
    changes: tuple[Commit, ...] = ()
    files: tuple[FileEntry, ...] = ()

    def of(self, shard: int, role: Role, column: str = "") -> list[FileEntry]:
        """Return the files of a shard that play one role, in their order."""
        files = self._by_shard.get((shard, role), [])
        return [file for file in files if file.column == column] if role == "values" else files

    def part(self, shard: int) -> Manifest:
        """Return the manifest with the files of one shard alone."""
        return replace(self, files=tuple(file for file in self.files if file.shard == shard))

    @cached_property
    def _by_shard(self) -> dict[tuple[int, str], list[FileEntry]]:
        files_by_key: dict[tuple[int, str], list[FileEntry]] = {}
        for file in self.files:
            files_by_key.setdefault((file.shard, file.role), []).append(file)
        return files_by_key

    @property
    def cells(self) -> int:
        """How many cells there are."""
        return sum(file.rows for file in self.files if file.role == "cells")

    @property
    def by(self) -> list[str]:
        """The names of the group columns."""
        return list(self.about["by"])

    @property
    def counted_columns(self) -> list[str]:
        """The columns whose different values are counted."""
        return [column for what, column in self.planes if what == "codes"]

    @property
    def options(self) -> BookOptions:
        """The measures, calendar(s) and coverage."""
        return options_from_metadata(dict(self.about))

    def metadata(self) -> Folded:
        """Return the metadata of all rows, with the days of the cells, but none of these."""
        spans = [file.span for file in self.files if file.role == "cells"]
        if not spans:
            raise InputError("the book holds no rows")
        first, last = min(span.lo for span in spans), max(span.hi for span in spans)
        cells = Cells(Axis(0, first, last - first + 1), {})
        metadata = rows_from_metadata(dict(self.about))
        metadata["seen"] = metadata["seen"] or Span.of(first, last)
        off = self.about.get("day_off")  # all that is kept of the days that have rows
        dated = np.array([] if off is None else [ordinal(off)], np.int64)
        return Folded(Groups({}, 0), cells, dated=dated, **metadata)

    def text(self) -> str:
        """Return the manifest as JSON."""
        fields_written = {"book": "eptaro", "layout": LAYOUT} | asdict(self)
        return json.dumps(
            fields_written | {"digest": _digest(fields_written)}, ensure_ascii=False, indent=1
        )


def read_manifest(folder: StoragePath) -> Manifest:
    """Return the manifest of a book's folder.

    Raises `InputError` where there is none, or it is damaged or of a later layout.
    """
    at = folder / NAME
    if not at.is_file():
        if folder.local is not None and not folder.local.exists():
            raise InputError(f"{folder}: there is no such folder")
        raise InputError(f"{folder}: is no book: it has no {NAME}")
    return manifest_of(at.read(), str(at))


def manifest_of(text: bytes, name: str) -> Manifest:
    """Return the manifest that is in a file."""
    with damage(name, "manifest"):
        fields_read = json.loads(text)
        digest = fields_read.pop("digest", None)
        if fields_read["book"] != "eptaro" or fields_read["layout"] != LAYOUT:
            raise InputError(f"{name}: is of layout {fields_read['layout']}; this reads {LAYOUT}")
        if digest != _digest(fields_read):
            raise InputError(
                f"{name}: is damaged: it does not hold what was written; an earlier one is in "
                f"manifests/"
            )
        del fields_read["book"], fields_read["layout"]
        for file in fields_read["files"]:
            if file["path"] and not SHARD_FILE.fullmatch(file["path"]):
                raise InputError(f"{name}: names {file['path']!r}, which is no file of a shard")
        fields_read["files"] = tuple(FileEntry(**file) for file in fields_read["files"])
        fields_read["changes"] = tuple(
            Commit(**change | {"files": tuple(change["files"])})
            for change in fields_read["changes"]
        )
        fields_read["planes"] = tuple((what, column) for what, column in fields_read["planes"])
        manifest = Manifest(**fields_read)
        _check(manifest)
        return manifest


def _check(manifest: Manifest) -> None:
    """Raise `ValueError`, or what reading it raises, where what a manifest says is of another
    kind, or does not go together.
    """
    everything: tuple[Any, ...] = (manifest, *manifest.files, *manifest.changes)
    for metadata in everything:
        for part in fields(metadata):
            kind = _KINDS.get(str(part.type))
            value: Any = getattr(metadata, part.name)
            wrong = kind is not None and type(value) is not kind
            if wrong or (isinstance(value, int) and value < 0):
                raise ValueError(f"{part.name} is {value!r}")
    texts([word for plane in manifest.planes for word in plane])
    texts(manifest.by)
    pairs = {(file.shard, file.column) for file in manifest.files if file.role == "values"}
    shards = {file.shard for file in manifest.files if file.role == "cells"}
    for shard, column in product(shards, manifest.counted_columns):
        if (shard, column) not in pairs:
            raise ValueError(f"shard {shard} has no file of the values of {column!r}")
    assert manifest.options is not None
    if manifest.cells:
        manifest.metadata()


_KINDS: dict[str, type] = {"int": int, "str": str}


def _digest(manifest: Mapping[str, Any]) -> str:
    """Return the digest of what a manifest says, however its JSON is set."""
    return digest_of(json.dumps(manifest, sort_keys=True, ensure_ascii=True))


def now() -> str:
    """Return the time, in UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")
