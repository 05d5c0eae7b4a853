"""Files folded into shards: into a folder, or, on a cluster, kept by its workers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from eptaro.beside import Beside
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.questions.book_options import BookOptions
from eptaro.engines.clients import Watch, client_of, own_errors
from eptaro.engines.cluster import RETRIES, worker_threads
from eptaro.engines.local import Engine
from eptaro.errors import QuestionError
from eptaro.inputs.files.opening import open_files
from eptaro.places import Place
from eptaro.sharded.adding import fingerprints_of, put, put_files, shards_in
from eptaro.sharded.cluster import ClusterFold, ClusterShards, shards_of
from eptaro.sharded.readas import ReadAs
from eptaro.sharded.shards import Shards
from eptaro.sharded.store import ShardStore
from eptaro.storage.about import about_rows, options_about
from eptaro.storage.folder.changing import Changing
from eptaro.storage.folder.manifest import Manifest, Stored, now
from eptaro.storage.folder.rewriting import Rewritten, rewritten
from eptaro.storage.folder.shardfiles import ShardFiles


def fold_sharded(
    what: Any,
    asked: BookOptions,
    read: ReadAs,
    *,
    into: str | Path | None,
    engine: Engine,
    client: Any = None,
    shards: int | None = None,
    timeout: float = 60,
) -> ShardStore:
    """Return the book of files that are folded into shards.

    Raises `QuestionError` where there is no place for them.
    """
    given = str(what) if isinstance(what, Path) else what
    place = None if into is None else Place.of(into)
    if shards is not None and shards < 1:
        raise QuestionError(f"shards={shards} must be at least 1")
    if engine != "dask":
        if place is None:
            raise QuestionError("shards need a place: say into= which folder")
        paths = [given] if isinstance(given, str) else [str(one) for one in given]
        made = put_files(place, paths, asked, read, shards=shards)
        return _book(place, made, asked)
    if place is None and (client is None or isinstance(client, str)):
        raise QuestionError(
            "shards that workers keep need workers that stay: give a Client, or a folder with into="
        )
    with client_of(client, timeout) as cluster, own_errors():
        work = Beside(_on_cluster, cluster, given, asked, read, place, shards)
        made, held = Watch(cluster, timeout).over(work)
        stays = client is not None and not isinstance(client, str)
        kept = ClusterShards(cluster, place, made, held, timeout) if stays else None
        return _book(place, made, asked, kept)


def _book(
    place: Place | None, made: Manifest, asked: BookOptions, shards: Shards | None = None
) -> ShardStore:
    return ShardStore.of(place, made, shards, asked.formats)


def _on_cluster(
    client: Any,
    what: Any,
    asked: BookOptions,
    read: ReadAs,
    folder: Place | None,
    shards: int | None,
) -> tuple[Manifest, Mapping[int, Any] | None]:
    """Fold on a cluster; into a folder, or into shards that the workers hold."""
    count = shards if folder is None else shards_in(folder, shards)
    fold = ClusterFold(client, what, asked, read, count)
    if not hasattr(what, "to_delayed"):
        files = open_files(
            [what] if isinstance(what, str) else [str(one) for one in what], read.files
        )
        fold.told = replace(fold.told, fingerprints=fingerprints_of(files))
    if folder is None:
        return _held(client, fold, asked)
    made = put(
        folder,
        fold.told,
        partial(_written, client, fold),
        asked,
        fold.shards,
        reading=read.settings(),
    )
    return made, None


def _written(client: Any, fold: ClusterFold, change: Changing) -> dict[int, Rewritten]:
    """Have the workers write the shards that they have."""
    told = change.folder, change.before, change.token, change.out, change.newest
    works = [
        client.submit(_write, part, *told, retries=RETRIES, pure=False) for part in fold.partitions
    ]
    return {shard: one for found in client.gather(works) for shard, one in found.items()}


def _write(
    frame: Any, folder: Place, before: Manifest, token: str, out: Span | None, newest: int
) -> dict[int, Rewritten]:
    with worker_threads():
        return {
            shard: rewritten(ShardFiles(folder, before, shard, token), folded, out, newest)
            for shard, folded in shards_of(frame).items()
        }


def _held(client: Any, fold: ClusterFold, asked: BookOptions) -> tuple[Manifest, dict[int, Any]]:
    """Return a manifest of shards that workers hold, and futures of these."""
    made = [client.submit(shards_of, part, retries=RETRIES, pure=False) for part in fold.partitions]
    held, files, groups = dict[int, Any](), list[Stored](), 0
    sizes = [client.submit(_sizes, part, retries=RETRIES, pure=False) for part in made]
    for part, found in zip(made, client.gather(sizes), strict=True):
        for shard, (count, cells, first, last) in found.items():
            held[shard] = client.submit(_one_of, part, shard, retries=RETRIES, pure=False)
            ends = str(as_date(first)), str(as_date(last))
            files.append(Stored("cells", shard, "", cells, 0, *ends))
            groups += count
    about = {**about_rows(fold.told), **options_about(asked.settled(fold.told), fold.told)}
    planes = tuple((plane.what, plane.column) for plane in asked.kept_planes)
    return Manifest(0, now(), fold.shards, groups, about, planes, files=tuple(files)), held


def _sizes(parts: dict[int, Folded]) -> dict[int, tuple[int, int, int, int]]:
    return {
        shard: (
            one.groups.count,
            one.cells.axis.size,
            one.cells.axis.first_day,
            one.cells.axis.last_day,
        )
        for shard, one in parts.items()
    }


def _one_of(parts: dict[int, Folded], shard: int) -> Folded:
    return parts[shard]
