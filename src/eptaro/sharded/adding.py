"""Rows put into a book's folder, folded by the engine that is named; all of them or none."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.shards import dealt
from eptaro.core.kernels.sidebyside import at_once
from eptaro.core.questions.book_options import BookOptions
from eptaro.engines.pieces import fold_pieces, shards_for, without_cells
from eptaro.errors import InputError
from eptaro.inputs.columns.cleaned import cleaned
from eptaro.inputs.columns.lookedup import looked_up
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.sources import Source
from eptaro.places import Place
from eptaro.progress import tell
from eptaro.sharded.readas import ReadAs
from eptaro.storage.folder.changing import Changing, changing
from eptaro.storage.folder.manifest import Manifest, read_manifest
from eptaro.storage.folder.rewriting import Rewritten, rewritten
from eptaro.storage.layout import NAME

Parts = Mapping[int, Callable[[], Folded]]


def put_files(
    folder: Place,
    paths: list[str],
    asked: BookOptions,
    read: ReadAs,
    *,
    shards: int | None = None,
    out: Span | None = None,
    force: bool = False,
) -> Manifest:
    """Fold files and put their rows into a folder, which is made where there is none."""
    rules = read.dates
    source: Source = cleaned(
        looked_up(open_files(paths, read.files), read.lookups, rules), read.numbers
    )
    told, pieces = fold_pieces(
        *(source, read.date, asked.by, asked.planes, rules, asked.formulas),
        shards=shards_in(folder, shards),
    )
    assert pieces.shards is not None
    return put(
        *(folder, told, pieces.parts(), asked, pieces.shards),
        reading=read.settings(),
        out=out,
        force=force,
    )


def put_folded(
    folder: Place,
    folded: Folded,
    asked: BookOptions,
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
    parts: Parts = {n: partial(_given, part) for n, part in dealt(folded, count)}
    return put(folder, without_cells(folded), parts, asked, count, out=out, force=force)


def _given(part: Folded) -> Folded:
    return part


def shards_in(folder: Place, wanted: int | None) -> int | None:
    """Return how many shards a folder has, or is to have, where that is settled."""
    if (folder / NAME).is_file():
        return read_manifest(folder).shards
    return wanted


def put(
    folder: Place,
    told: Folded,
    parts: Parts,
    asked: BookOptions,
    shards: int,
    *,
    reading: Mapping[str, Any] | None = None,
    out: Span | None = None,
    force: bool = False,
) -> Manifest:
    """Put the parts of shards into a folder, in one step."""
    planes = asked.kept_planes
    with changing(
        folder, told, planes, asked, shards=shards, reading=reading, out=out, force=force
    ) as change:
        numbers = sorted({*parts, *change.touched})
        done = [0]
        works = [partial(_one, change, number, parts.get(number), done) for number in numbers]
        return change.commit(dict(zip(numbers, at_once(works), strict=True)))


def _one(
    change: Changing, number: int, part: Callable[[], Folded] | None, done: list[int]
) -> Rewritten:
    new = None if part is None else part()
    found = rewritten(change.shard(number), new, change.out, change.newest)
    done[0] += 1
    tell(0, None)
    return found
