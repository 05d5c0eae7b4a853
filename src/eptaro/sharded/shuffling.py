"""Parts that were folded on a cluster, dealt to shards by Dask's own shuffle."""

from __future__ import annotations

import pickle
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.folds.axis import Axis
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.merge import put_together, told_of_both
from eptaro.core.folds.shards import dealt
from eptaro.core.questions.book_options import BookOptions
from eptaro.engines.cluster import PART_ROWS, RETRIES, follow, submitted, worker_threads
from eptaro.engines.pieces import shards_for, without_cells
from eptaro.errors import InputError
from eptaro.extras import need
from eptaro.sharded.readas import ReadAs


class ClusterFold:
    """Files, or a Dask frame, folded on a cluster and dealt to shards there.

    `told` is what is told of all rows, `shards` how many shards there are, and `partitions` are
    futures of frames, each with all pieces of the shards that it has.
    """

    def __init__(
        self, client: Any, what: Any, asked: BookOptions, read: ReadAs, shards: int | None
    ) -> None:
        need("dask.dataframe", "cluster", "shards on a cluster")
        parts = submitted(
            *(client, what, read.date, asked.by, list(asked.planes), read.dates, read.files),
            *(PART_ROWS, asked.formulas, read.numbers, read.lookups),
            in_order=False,
        )
        told = [client.submit(_told, part, retries=RETRIES, pure=False) for part in parts]
        follow(told)
        found = client.gather(told)
        self.told = _of_all([one for one, _ in found])
        cells = sum(count for _, count in found)
        self.shards = shards or (shards_for(cells) if self.told.groups.names else 1)
        self.partitions = _shuffled(client, parts, self.shards)


def _told(folded: Folded) -> tuple[Folded, int]:
    """Return what is told of a part, and how many cells it has."""
    return without_cells(folded), folded.cells.axis.size


def _of_all(parts: Sequence[Folded]) -> Folded:
    """Return what is told of all parts."""
    filled = [part for part in parts if part.rows]
    if not filled:
        raise InputError(f"{parts[0].source}: no row meets the condition {_condition(parts)!r}")
    grain = filled[0].grain
    known = [part if part.rows else replace(part, grain=grain) for part in parts]
    whole, *others = [part for part in known if part.rows or part.seen is not None]
    for part in others:
        whole = told_of_both(whole, part)
    axes = [part.cells.axis for part in filled]
    first = min(axis.first_day for axis in axes)
    days = max(axis.last_day for axis in axes) - first + 1
    return replace(whole, cells=Cells(Axis(0, first, days), {}))


def _condition(parts: Sequence[Folded]) -> str:
    left = parts[0].left
    return "" if left is None else left.where


def _shuffled(client: Any, parts: Sequence[Any], shards: int) -> list[Any]:
    """Return futures of frames that have all pieces of some shards."""
    from dask import dataframe as frames

    with client.as_current():
        keys = _keys(shards)
        pieces = [
            client.submit(_pieces, part, keys, at, retries=RETRIES, pure=False)
            for at, part in enumerate(parts)
        ]
        frame = frames.from_delayed(pieces, meta=_frame([]), verify_meta=False)
        moved = frame.shuffle(on="key", npartitions=shards)
        found: list[Any] = client.compute(list(moved.to_delayed()), retries=RETRIES)
        return found


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


def _pieces(folded: Folded, keys: Sequence[int], part: int) -> Any:
    """Return a frame of pieces: the key of the shard, of which shard and part, and what was
    folded, packed.
    """
    with worker_threads():
        dealt_out = dealt(folded, len(keys))
        return _frame([(keys[shard], shard, part, _packed(one)) for shard, one in dealt_out])


def _packed(folded: Folded) -> bytes:
    """Return what was folded as bytes, packed: less of it goes from worker to worker."""
    plain = pickle.dumps(folded, 5)
    packed: bytes = pa.compress(plain, codec="lz4", asbytes=True)
    return len(plain).to_bytes(8, "little") + packed


def _unpacked(piece: bytes) -> Folded:
    size = int.from_bytes(piece[:8], "little")
    found: Folded = pickle.loads(pa.decompress(piece[8:], size, codec="lz4"))
    return found


def _frame(rows: Sequence[tuple[int, int, int, bytes]]) -> Any:
    import pandas

    numbers = np.array([row[:3] for row in rows], np.int64).reshape(-1, 3)
    pieces = pandas.array([row[3] for row in rows], dtype=pandas.ArrowDtype(pa.large_binary()))
    columns = dict(zip(("key", "shard", "part"), numbers.T, strict=True))
    return pandas.DataFrame(columns | {"piece": pieces})


def shards_of(frame: Any) -> dict[int, Folded]:
    """Return the shards whose pieces a frame has, each put together."""
    held: dict[int, list[tuple[int, bytes]]] = {}
    rows = zip(frame["shard"], frame["part"], frame["piece"], strict=True)
    for shard, part, piece in rows:
        held.setdefault(int(shard), []).append((int(part), piece))
    with worker_threads():
        return {
            shard: put_together([_unpacked(piece) for _, piece in sorted(pieces)])
            for shard, pieces in held.items()
        }
