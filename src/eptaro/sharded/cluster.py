"""Shards on a Dask cluster: read where a worker is, or kept with the workers that folded them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from eptaro.beside import Beside
from eptaro.core.folds.folded import Folded
from eptaro.engines.clients import Watch, own_errors
from eptaro.engines.cluster import RETRIES, worker_threads
from eptaro.patience import PATIENCE
from eptaro.places import Place
from eptaro.sharded.shards import Work
from eptaro.storage.folder.manifest import Manifest
from eptaro.storage.folder.shardfiles import ShardFiles

Done = TypeVar("Done")
_AHEAD = 3  # tasks for each thread of a worker that are under way


@dataclass(frozen=True, eq=False)
class ClusterShards:
    """Shards that workers hold, or read from a folder that all of them reach.

    `held` are futures of what was folded, by shard; without it each is read when it is asked.
    """

    client: Any
    folder: Place | None
    manifest: Manifest
    held: Mapping[int, Any] | None = None
    patience: float = PATIENCE
    some: Sequence[int] | None = None

    def among(self, numbers: Sequence[int]) -> ClusterShards:
        """Return some of the shards."""
        return replace(self, some=numbers)

    @property
    def _numbers(self) -> Sequence[int]:
        return range(self.manifest.shards) if self.some is None else self.some

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield what some work comes to for each shard, but for those where it is None."""
        numbers = list(self._numbers)
        threads = sum(self.client.nthreads().values()) or 1
        under_way: list[Any] = []
        with own_errors():
            try:
                while numbers or under_way:
                    while numbers and len(under_way) < _AHEAD * threads:
                        under_way.append(self._submitted(numbers.pop(0), work))
                    done = self._waited(under_way.pop(0))
                    if done is not None:
                        yield done
            finally:
                for future in under_way:
                    future.cancel()

    def first(self, work: Work[Done]) -> Done | None:
        """Return what some work comes to for the first shard for which it comes to anything."""
        with own_errors():
            for shard in self._numbers:
                done: Done | None = self._waited(self._submitted(shard, work))
                if done is not None:
                    return done
        return None

    def joined(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return what the work comes to for all shards, joined two by two on the workers."""
        with own_errors():
            parts = [self._submitted(shard, work) for shard in self._numbers]
            while len(parts) > 1:
                parts = [
                    pair[0]
                    if len(pair) == 1
                    else self.client.submit(_joined, join, *pair, retries=RETRIES, pure=False)
                    for pair in (parts[at : at + 2] for at in range(0, len(parts), 2))
                ]
            found: Done | None = self._waited(parts[0])
            return found

    def _submitted(self, shard: int, work: Work[Done]) -> Any:
        if self.held is not None:
            given = self.held.get(shard)
            return self.client.submit(_do, shard, given, work, retries=RETRIES, pure=False)
        assert self.folder is not None
        own = self.manifest.part(shard)  # scattered data would be lost with its worker
        return self.client.submit(
            _read_and_do, self.folder, own, shard, work, retries=RETRIES, pure=False
        )

    def _waited(self, future: Any) -> Any:
        return Watch(self.client, self.patience).over(Beside(future.result))


def _do(shard: int, folded: Folded | None, work: Work[Done]) -> Done | None:
    if folded is None:
        return None
    with worker_threads():
        return work(shard, folded)


def _read_and_do(folder: Place, manifest: Manifest, shard: int, work: Work[Done]) -> Done | None:
    with worker_threads():
        folded = ShardFiles(folder, manifest, shard).folded()
        return None if folded is None else work(shard, folded)


def _joined(join: Callable[[Done, Done], Done], one: Done | None, two: Done | None) -> Done | None:
    if one is None or two is None:
        return two if one is None else one
    with worker_threads():
        return join(one, two)
