"""`Shards`: the shards of a book, and running work on each."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import field
from typing import Protocol, TypeVar

from eptaro.core.aggregation.folded import Folded
from eptaro.inputs.sources import prefetch
from eptaro.paths import StoragePath
from eptaro.progress import report_progress
from eptaro.record import record
from eptaro.storage.folder.manifest import Manifest
from eptaro.storage.folder.shardfiles import ShardFiles

Done = TypeVar("Done")
Work = Callable[[int, Folded], Done | None]


class Shards(Protocol):
    """Where shards are, and how work is brought to them."""

    def among(self, numbers: Sequence[int]) -> Shards:
        """Return some of the shards."""
        ...

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield the result of some work for each shard, but for those where it is None."""
        ...

    def first(self, work: Work[Done]) -> Done | None:
        """Return the result of some work for the first shard that has a result."""
        ...

    def reduce(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return the result of the work for all shards, joined two by two in their order."""
        ...


@record
class FolderShards:
    """The shards of a folder, read one after the other in this process."""

    folder: StoragePath
    manifest: Manifest
    some: Sequence[int] | None = None
    cache: dict[int, Folded | None] = field(default_factory=dict)  # one shard, read a moment ago

    def among(self, numbers: Sequence[int]) -> FolderShards:
        """Return some of the shards."""
        return FolderShards(self.folder, self.manifest, numbers)

    @property
    def _numbers(self) -> Sequence[int]:
        return range(self.manifest.shards) if self.some is None else self.some

    def first(self, work: Work[Done]) -> Done | None:
        """Return the result of some work for the first shard that has a result."""
        for shard in self._numbers:
            folded = self.cache.pop(shard) if shard in self.cache else self._read(shard)
            answer = None if folded is None else work(shard, folded)
            if answer is not None:
                self.cache.clear()
                self.cache[shard] = folded
                return answer
        return None

    def _read(self, shard: int) -> Folded | None:
        return ShardFiles(self.folder, self.manifest, shard).read()

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield the result of some work for each shard, but for those where it is None."""
        numbers = self._numbers
        in_memory = dict(self.cache)
        self.cache.clear()
        shards_read = (
            in_memory.pop(shard) if shard in in_memory else self._read(shard) for shard in numbers
        )
        for number, (shard, folded) in enumerate(
            zip(numbers, prefetch(shards_read), strict=True), 1
        ):
            answer = None if folded is None else work(shard, folded)
            report_progress(0, number / len(numbers))
            if answer is not None:
                yield answer

    def reduce(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return the result of the work for all shards, joined two by two in their order."""
        pending: list[tuple[int, Done]] = []  # each with how many shards it is of
        for answer in self.each(work):
            pending.append((1, answer))
            while len(pending) > 1 and pending[-1][0] >= pending[-2][0]:
                (count, two), (more, one) = pending.pop(), pending.pop()
                pending.append((count + more, join(one, two)))
        while len(pending) > 1:
            (count, two), (more, one) = pending.pop(), pending.pop()
            pending.append((count + more, join(one, two)))
        return pending[0][1] if pending else None
