"""Files folded into shards: into a folder, or, on a cluster, kept by its workers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from eptaro.background import BackgroundTask
from eptaro.core.aggregation.folded import Folded
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.span import Span
from eptaro.core.query.book_options import BookOptions
from eptaro.engines.clients import Watchdog, client_of, own_errors
from eptaro.engines.cluster import RETRIES, worker_threads
from eptaro.errors import QuestionError
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.options import FileOptions
from eptaro.paths import StoragePath
from eptaro.sharded.adding import fingerprints_of, put_files, put_shards, settings_of, shards_in
from eptaro.sharded.cluster import ClusterFold, ClusterShards, shards_of
from eptaro.sharded.store import ShardStore
from eptaro.storage.folder.manifest import FileEntry, Manifest, now
from eptaro.storage.folder.shard_writer import ShardChange, rewrite_shard
from eptaro.storage.folder.shardfiles import ShardFiles
from eptaro.storage.folder.transaction import Transaction
from eptaro.storage.metadata import about_rows, options_about


def fold_sharded(what: Any, options: FileOptions) -> ShardStore:
    """Return the book of files that are folded into shards.

    Raises `QuestionError` where there is no place for them.
    """
    into, shards, client, timeout = options.into, options.shards, options.client, options.timeout
    place = None if into is None else StoragePath.of(into)
    if shards is not None and shards < 1:
        raise QuestionError(f"shards={shards} must be at least 1")
    if options.engine != "dask":
        if place is None:
            raise QuestionError("shards are for a book in a folder; name it with into=")
        paths = [what] if isinstance(what, str) else [str(path) for path in what]
        return ShardStore.of(place, put_files(place, paths, options), None, options.book.formats)
    if place is None and (client is None or isinstance(client, str)):
        raise QuestionError(
            "shards that workers keep need workers that stay: give a Client, or a folder with into="
        )
    with client_of(client, timeout) as cluster, own_errors():
        work = BackgroundTask(_on_cluster, cluster, what, options, place)
        manifest, futures = Watchdog(cluster, timeout).over(work)
        stays = client is not None and not isinstance(client, str)
        worker_shards = ClusterShards(cluster, place, manifest, futures, timeout) if stays else None
        return ShardStore.of(place, manifest, worker_shards, options.book.formats)


def _on_cluster(
    client: Any, what: Any, options: FileOptions, folder: StoragePath | None
) -> tuple[Manifest, Mapping[int, Any] | None]:
    """Fold on a cluster; into a folder, or into shards that the workers hold."""
    count = options.shards if folder is None else shards_in(folder, options.shards)
    fold = ClusterFold(client, what, options, count)
    if not hasattr(what, "to_delayed"):
        files = open_files(
            [what] if isinstance(what, str) else [str(path) for path in what], options.files
        )
        fold.metadata = replace(fold.metadata, fingerprints=fingerprints_of(files))
    if folder is None:
        return _hold_shards(client, fold, options.book)
    manifest = put_shards(
        folder,
        fold.metadata,
        partial(_write_shards, client, fold),
        options.book,
        fold.shards,
        reading=settings_of(options),
    )
    return manifest, None


def _write_shards(client: Any, fold: ClusterFold, change: Transaction) -> dict[int, ShardChange]:
    """Have the workers write the shards that they have."""
    metadata = change.folder, change.before, change.token, change.out, change.newest
    works = [
        client.submit(_write, part, *metadata, retries=RETRIES, pure=False)
        for part in fold.partitions
    ]
    return {shard: one for rewritten in client.gather(works) for shard, one in rewritten.items()}


def _write(
    frame: Any, folder: StoragePath, before: Manifest, token: str, out: Span | None, newest: int
) -> dict[int, ShardChange]:
    with worker_threads():
        return {
            shard: rewrite_shard(ShardFiles(folder, before, shard, token), folded, out, newest)
            for shard, folded in shards_of(frame).items()
        }


def _hold_shards(
    client: Any, fold: ClusterFold, options: BookOptions
) -> tuple[Manifest, dict[int, Any]]:
    """Return a manifest of shards that workers hold, and futures of these."""
    piece_lists = [
        client.submit(shards_of, part, retries=RETRIES, pure=False) for part in fold.partitions
    ]
    futures, files, groups = dict[int, Any](), list[FileEntry](), 0
    sizes = [client.submit(_sizes, part, retries=RETRIES, pure=False) for part in piece_lists]
    for part, sizes_by_shard in zip(piece_lists, client.gather(sizes), strict=True):
        for shard, (count, cells, first, last) in sizes_by_shard.items():
            futures[shard] = client.submit(_one_of, part, shard, retries=RETRIES, pure=False)
            ends = str(as_date(first)), str(as_date(last))
            files.append(FileEntry("cells", shard, "", cells, 0, *ends))
            groups += count
    about = {
        **about_rows(fold.metadata),
        **options_about(options.settle(fold.metadata), fold.metadata),
    }
    planes = tuple((plane.what, plane.column) for plane in options.kept_planes)
    return Manifest(0, now(), fold.shards, groups, about, planes, files=tuple(files)), futures


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
