"""Tables as folders: one Parquet file for each part, all of them or none."""

from __future__ import annotations

import os
import re
import shutil
import uuid
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from eptaro.core.tables.table import Table
from eptaro.errors import InputError
from eptaro.places import Place, runs

_PART = re.compile(r"part-\d{4,}\.parquet|\.part-\d{4,}\.parquet\.\d+")


class InShards(Protocol):
    """A table of which each shard makes its own part."""

    def in_shards(self, work: Any) -> list[Any]:
        """Do some work with the part of each shard, where it is made."""
        ...


def write_folder(table: Table | InShards, path: str | Path) -> Path | str:
    """Write a table to a new folder, `part-0000.parquet` and so on, and return its path.

    On this machine the folder appears whole or not at all; in an object store each part does.
    Raises `InputError` where the folder is there and holds anything.
    """
    place = Place.of(path)
    if place.is_file() or place.within():
        raise InputError(f"{place}: is there already; name a new folder")
    local = place.local
    if local is None:
        _write_parts(table, place)
        return place.name
    with place.told("written"):
        local.parent.mkdir(parents=True, exist_ok=True)
        _clear_leftovers(local)
        beside = local.with_name(f".{local.name}.{os.getpid()}-{uuid.uuid4().hex[:8]}")
        beside.mkdir()
    try:
        _write_parts(table, Place(place.system, str(beside), str(place)))
        with place.told("written"):
            if local.exists():
                local.rmdir()
            beside.rename(local)
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    return Path(path)


def _clear_leftovers(folder: Path) -> None:
    """Take away what runs that were killed left beside a folder: their own files, and no others."""
    left = re.compile(re.escape(f".{folder.name}.") + r"(\d+)-[0-9a-f]{8}")
    for other in folder.parent.iterdir():
        found = left.fullmatch(other.name)
        if found is None or other.is_symlink() or not other.is_dir() or runs(int(found[1])):
            continue
        for file in other.iterdir():
            if _PART.fullmatch(file.name) and not file.is_symlink():
                file.unlink(missing_ok=True)
        with suppress(OSError):  # it holds something else
            other.rmdir()


def _write_parts(table: Table | InShards, folder: Place) -> None:
    if isinstance(table, Table) and not hasattr(table, "in_shards"):
        _write_part(0, table, folder=folder)
        return
    table.in_shards(partial(_write_part, folder=folder))


def _write_part(shard: int, table: Table, folder: Place) -> int:
    from pyarrow import parquet

    place = folder / f"part-{shard:04d}.parquet"
    place.write(partial(parquet.write_table, table.to_arrow()))
    return len(table)
