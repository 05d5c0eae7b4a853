"""`Shards`: what was folded, shard by shard, and work that is done with each."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Protocol, TypeVar

from eptaro.core.folds.folded import Folded
from eptaro.inputs.ahead import ahead
from eptaro.places import Place
from eptaro.progress import tell
from eptaro.storage.folder.manifest import Manifest
from eptaro.storage.folder.shardfiles import ShardFiles

Done = TypeVar("Done")
Work = Callable[[int, Folded], Done | None]


class Shards(Protocol):
    """Where shards are, and how work is brought to them."""

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield what some work comes to for each shard, but for those where it is None."""
        ...

    def joined(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return what the work comes to for all shards, joined two by two in their order."""
        ...


@dataclass(frozen=True, eq=False)
class FolderShards:
    """The shards of a folder, read one after the other in this process."""

    folder: Place
    manifest: Manifest

    def each(self, work: Work[Done]) -> Iterator[Done]:
        """Yield what some work comes to for each shard, but for those where it is None."""
        numbers = range(self.manifest.shards)
        read = (ShardFiles(self.folder, self.manifest, shard).folded() for shard in numbers)
        for shard, folded in zip(numbers, ahead(read), strict=True):
            done = None if folded is None else work(shard, folded)
            tell(0, (shard + 1) / self.manifest.shards)
            if done is not None:
                yield done

    def joined(self, work: Work[Done], join: Callable[[Done, Done], Done]) -> Done | None:
        """Return what the work comes to for all shards, joined two by two in their order."""
        held: list[tuple[int, Done]] = []  # each with how many shards it is of
        for done in self.each(work):
            held.append((1, done))
            while len(held) > 1 and held[-1][0] >= held[-2][0]:
                (count, two), (more, one) = held.pop(), held.pop()
                held.append((count + more, join(one, two)))
        while len(held) > 1:
            (count, two), (more, one) = held.pop(), held.pop()
            held.append((count + more, join(one, two)))
        return held[0][1] if held else None
