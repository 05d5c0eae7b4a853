"""A fold of any size into shards: cells that outgrow their room are dealt out and put into files,
and each shard is put together from its pieces in the end.
"""

from __future__ import annotations

import pickle
import tempfile
from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import combine_pieces
from eptaro.core.aggregation.shards import partition_cells
from eptaro.engines.local import Ingest
from eptaro.errors import InputError
from eptaro.inputs.files.chunks import translate_errors
from eptaro.inputs.options import FoldSpec
from eptaro.inputs.sources import Source

ROOM = 160 << 20  # bytes that cells take before they are put into files
SHARD = 4_000_000  # cells that are meant for one shard
_MANY = 1000  # texts


class ShardBuffers:
    """What was folded, shard by shard; in files of a temporary folder where it was put there."""

    def __init__(self, shards: int | None) -> None:
        self.shards = shards
        self._held: dict[int, list[Folded | Path]] = {}
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._runs = 0

    def add(self, folded: Folded, share: float | None, *, last: bool) -> None:
        """Deal out some cells; into files unless they are the first and the last.

        `share` is how much of the input they are with those before, where that is known.
        """
        if self.shards is None:
            cells = folded.cells.axis.size / min(max(share or 1 / 16, 1e-3), 1.0)
            self.shards = shards_for(cells) if folded.groups.names else 1
        self._runs += 1
        for shard, part in partition_cells(folded, self.shards):
            piece = part if last and self._runs == 1 else self._write_piece(shard, part)
            self._held.setdefault(shard, []).append(piece)

    def _write_piece(self, shard: int, part: Folded) -> Path:
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="eptaro-")
        path = Path(self._folder.name) / f"{shard}-{self._runs}"
        try:
            with path.open("wb") as file:
                _Pickler(file, protocol=5).dump(part)
        except OSError as error:
            raise InputError(
                f"the cells outgrow their room in memory, and there is none for them in "
                f"{tempfile.gettempdir()} ({error.strerror}); set TMPDIR to a folder with more room"
            ) from None
        return path

    def parts(self) -> Mapping[int, partial[Folded]]:
        """Return for each shard that has any rows what puts it together."""
        return {shard: partial(self._of, shard) for shard in sorted(self._held)}

    def _of(self, shard: int) -> Folded:
        return combine_pieces([load_piece(part) for part in self._held.pop(shard)])


class _Pickler(pickle.Pickler):
    """Writes arrays of texts as one text each, which is much quicker."""

    def reducer_override(self, given: Any) -> Any:
        """Return how something is recreated, where it is such an array."""
        if not isinstance(given, np.ndarray) or given.dtype != object or len(given) < _MANY:
            return NotImplemented
        try:
            text = "\0".join(given.tolist())
        except TypeError:  # other things than texts
            return NotImplemented
        if text.count("\0") != len(given) - 1:
            return NotImplemented
        return _split, (text,)


def _split(joined: str) -> Any:
    return np.array([*joined.split("\0"), None], object)[:-1]


def load_piece(part: Folded | Path) -> Folded:
    """Return a piece, out of its file where it is in one, which is then gone."""
    if isinstance(part, Folded):
        return part
    with part.open("rb") as file:
        piece: Folded = pickle.load(file)
    part.unlink()
    return piece


def shards_for(cells: float) -> int:
    """Return how many shards so many cells are put into: a power of two.

    >>> shards_for(10_000), shards_for(110_000_000)
    (1, 32)
    """
    return 1 << max(0, min(int(np.ceil(np.log2(max(cells, 1) / SHARD))), 12))


def fold_pieces(
    source: Source, spec: FoldSpec, *, shards: int | None = None
) -> tuple[Folded, ShardBuffers]:
    """Return the metadata of all rows of a source, and their cells in shards.

    Raises `InputError` where the source turns out damaged, or there is no room for files.
    """
    with translate_errors(source.name):
        reading = Ingest(source, spec)
        pieces, fold = ShardBuffers(shards), Fold(spec.by, spec.planes)
        dated = np.zeros(0, np.int64)
        for batch in reading:
            fold.add(batch)
            if fold.memory > (spec.limit or ROOM):
                run = reading.some(fold)
                dated = np.union1d(dated, run.days_with_rows)
                pieces.add(run, source.share, last=False)
                fold = Fold(spec.by, spec.planes)
        if fold.rows:
            run = reading.some(fold)
            dated = np.union1d(dated, run.days_with_rows)
            pieces.add(run, 1.0, last=True)
        elif not pieces.shards:
            raise InputError("there are no rows to fold")
        return replace(reading.metadata(), reread=None, dated=dated), pieces


def without_cells(folded: Folded) -> Folded:
    """Return the metadata of rows, with the names of their groups, but none of these."""
    axis = folded.cells.axis
    return replace(
        folded,
        groups=folded.groups.at(np.zeros(0, np.int64)).drop_unused(),
        cells=Cells(Axis(0, axis.first_day, axis.days), {}),
        distinct={},
        reread=None,
        dated=folded.days_with_rows,
        cache={},
    )
