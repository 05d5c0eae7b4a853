"""Shards on a Dask cluster: read where a worker is, or kept with the workers that folded them."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa

from eptaro.background import BackgroundTask
from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import combine_pieces, merge_metadata
from eptaro.core.aggregation.shards import partition_cells
from eptaro.engines.buffers import shards_for, without_cells
from eptaro.engines.clients import Watchdog, own_errors
from eptaro.engines.cluster import PART_ROWS, RETRIES, follow, submit_parts, worker_threads
from eptaro.errors import InputError
from eptaro.inputs.options import FileOptions
from eptaro.optional import import_optional
from eptaro.paths import StoragePath
from eptaro.record import record
from eptaro.sharded.shards import Work
from eptaro.storage.folder.manifest import Manifest
from eptaro.storage.folder.shardfiles import ShardFiles
from eptaro.timeouts import TIMEOUT

Done = TypeVar("Done")
_AHEAD = 3  # tasks for each thread of a worker that are under way


@record
class ClusterShards:
    """Shards that workers hold, or read from a folder that all of them reach.

    `held` are futures of what was folded, by shard; without it each is read when it is asked.
    """

    client: Any
    folder: StoragePath | None
    manifest: Manifest
    held: Mapping[int, Any] | None = None
    timeout: float = TIMEOUT
    some: Sequence[int] | None = None

    def among(self, numbers: Sequence[int]) -> ClusterShards:
        """Return some of the shards."""
        return replace(self, some=numbers)

    @property
    def _numbers(self) -> Sequence[int]:
        return range(self.manifest.shards) if self.some is None else self.some

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield the result of some work for each shard, but for those where it is None."""
        numbers = list(self._numbers)
        threads = sum(self.client.nthreads().values()) or 1
        under_way: list[Any] = []
        with own_errors():
            try:
                while numbers or under_way:
                    while numbers and len(under_way) < _AHEAD * threads:
                        under_way.append(self._submit(numbers.pop(0), work))
                    answer = self._wait_for(under_way.pop(0))
                    if answer is not None:
                        yield answer
            finally:
                for future in under_way:
                    future.cancel()

    def first(self, work: Work[Done]) -> Done | None:
        """Return the result of some work for the first shard that has a result."""
        with own_errors():
            for shard in self._numbers:
                answer: Done | None = self._wait_for(self._submit(shard, work))
                if answer is not None:
                    return answer
        return None

    def reduce(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return the result of the work for all shards, joined two by two on the workers."""
        with own_errors():
            parts = [self._submit(shard, work) for shard in self._numbers]
            while len(parts) > 1:
                parts = [
                    pair[0]
                    if len(pair) == 1
                    else self.client.submit(_join_pair, join, *pair, retries=RETRIES, pure=False)
                    for pair in (parts[at : at + 2] for at in range(0, len(parts), 2))
                ]
            answer: Done | None = self._wait_for(parts[0])
            return answer

    def _submit(self, shard: int, work: Work[Done]) -> Any:
        if self.held is not None:
            future = self.held.get(shard)
            return self.client.submit(
                _do_in_worker, shard, future, work, retries=RETRIES, pure=False
            )
        assert self.folder is not None
        own = self.manifest.part(shard)  # scattered data would be lost with its worker
        return self.client.submit(
            _read_and_do, self.folder, own, shard, work, retries=RETRIES, pure=False
        )

    def _wait_for(self, future: Any) -> Any:
        return Watchdog(self.client, self.timeout).over(BackgroundTask(future.result))


def _do_in_worker(shard: int, folded: Folded | None, work: Work[Done]) -> Done | None:
    if folded is None:
        return None
    with worker_threads():
        return work(shard, folded)


def _read_and_do(
    folder: StoragePath, manifest: Manifest, shard: int, work: Work[Done]
) -> Done | None:
    with worker_threads():
        folded = ShardFiles(folder, manifest, shard).read()
        return None if folded is None else work(shard, folded)


def _join_pair(
    join: Callable[[Done, Done], Done], one: Done | None, two: Done | None
) -> Done | None:
    if one is None or two is None:
        return two if one is None else one
    with worker_threads():
        return join(one, two)


class ClusterFold:
    """Files, or a Dask frame, folded on a cluster and dealt to shards there.

    `metadata` is the metadata of all rows, `shards` how many shards there are, and `partitions` are
    futures of frames, each with all pieces of the shards that it has.
    """

    def __init__(self, client: Any, what: Any, options: FileOptions, shards: int | None) -> None:
        import_optional("dask.dataframe", "cluster", "shards on a cluster")
        parts = submit_parts(client, what, options, PART_ROWS, in_order=False)
        metadata = [
            client.submit(_describe_part, part, retries=RETRIES, pure=False) for part in parts
        ]
        follow(metadata)
        gathered = client.gather(metadata)
        self.metadata = _of_all([metadata for metadata, _ in gathered])
        cells = sum(count for _, count in gathered)
        self.shards = shards or (shards_for(cells) if self.metadata.groups.names else 1)
        self.partitions = _shuffle(client, parts, self.shards)


def _describe_part(folded: Folded) -> tuple[Folded, int]:
    """Return the metadata of a part, and how many cells it has."""
    return without_cells(folded), folded.cells.axis.size


def _of_all(parts: Sequence[Folded]) -> Folded:
    """Return the metadata of all parts."""
    filled = [part for part in parts if part.rows]
    if not filled:
        raise InputError(f"{parts[0].source}: no row meets the condition {_condition(parts)!r}")
    grain = filled[0].grain
    with_grain = [part if part.rows else replace(part, grain=grain) for part in parts]
    whole, *others = [part for part in with_grain if part.rows or part.seen is not None]
    for part in others:
        whole = merge_metadata(whole, part)
    axes = [part.cells.axis for part in filled]
    first = min(axis.first_day for axis in axes)
    days = max(axis.last_day for axis in axes) - first + 1
    return replace(whole, cells=Cells(Axis(0, first, days), {}))


def _condition(parts: Sequence[Folded]) -> str:
    left_out = parts[0].left
    return "" if left_out is None else left_out.where


def _shuffle(client: Any, parts: Sequence[Any], shards: int) -> list[Any]:
    """Return futures of frames that have all pieces of some shards."""
    from dask import dataframe as frames

    with client.as_current():
        keys = _keys(shards)
        pieces = [
            client.submit(_pack_pieces, part, keys, at, retries=RETRIES, pure=False)
            for at, part in enumerate(parts)
        ]
        frame = frames.from_delayed(pieces, meta=_frame([]), verify_meta=False)
        moved = frame.shuffle(on="key", npartitions=shards)
        shuffled: list[Any] = client.compute(list(moved.to_delayed()), retries=RETRIES)
        return shuffled


def _keys(shards: int) -> list[int]:
    """Return a number for each shard that the shuffle puts into a partition of its own, so that no
    worker has many more shards than another.
    """
    import pandas
    from dask.dataframe.dispatch import hash_object_dispatch

    some = np.arange(64 * shards)
    hashed = pandas.DataFrame({"key": some.astype(np.float64)})  # numbers are hashed as floats
    place = hash_object_dispatch(hashed, index=False) % shards
    first = dict(zip(place.tolist()[::-1], some.tolist()[::-1], strict=True))
    return [first.get(shard, shard) for shard in range(shards)]


def _pack_pieces(folded: Folded, keys: Sequence[int], part: int) -> Any:
    """Return a frame of pieces: the key of the shard, of which shard and part, and what was
    folded, packed.
    """
    with worker_threads():
        dealt_out = partition_cells(folded, len(keys))
        return _frame([(keys[shard], shard, part, _pack(one)) for shard, one in dealt_out])


def _pack(folded: Folded) -> bytes:
    """Return what was folded as bytes, packed: less of it goes from worker to worker."""
    plain = pickle.dumps(folded, 5)
    packed: bytes = pa.compress(plain, codec="lz4", asbytes=True)
    return len(plain).to_bytes(8, "little") + packed


def _unpack(piece: bytes) -> Folded:
    size = int.from_bytes(piece[:8], "little")
    folded: Folded = pickle.loads(pa.decompress(piece[8:], size, codec="lz4"))
    return folded


def _frame(rows: Sequence[tuple[int, int, int, bytes]]) -> Any:
    import pandas

    numbers = np.array([row[:3] for row in rows], np.int64).reshape(-1, 3)
    pieces = pandas.array([row[3] for row in rows], dtype=pandas.ArrowDtype(pa.large_binary()))
    columns = dict(zip(("key", "shard", "part"), numbers.T, strict=True))
    return pandas.DataFrame(columns | {"piece": pieces})


def shards_of(frame: Any) -> dict[int, Folded]:
    """Return the shards whose pieces a frame has, each put together."""
    pieces_by_shard: dict[int, list[tuple[int, bytes]]] = {}
    rows = zip(frame["shard"], frame["part"], frame["piece"], strict=True)
    for shard, part, piece in rows:
        pieces_by_shard.setdefault(int(shard), []).append((int(part), piece))
    with worker_threads():
        return {
            shard: combine_pieces([_unpack(piece) for _, piece in sorted(pieces)])
            for shard, pieces in pieces_by_shard.items()
        }
