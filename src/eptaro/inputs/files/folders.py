"""Folders of Parquet files: each file with the values that its folders' names state."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import InputError
from eptaro.inputs.files.parquet import ParquetFile, unreadable
from eptaro.places import Place
from eptaro.rules.files import FileRules


def parquet_folder(folder: Place, rules: FileRules) -> list[ParquetFile]:
    """Return the Parquet files of a folder and the folders in it, in the order of their paths.

    Folders called `NAME=VALUE` add a column to the rows of the files in them. Files and
    folders whose names start with `_` or `.` are left out.
    """
    from pyarrow import dataset

    files = [
        found.place.path
        for found in folder.within()
        if found.inside.endswith(".parquet")
        and not any(part[0] in "_." for part in found.inside.split("/"))
    ]
    if not files:
        raise InputError(f"{folder}: is a folder without Parquet files")
    _opened(folder, files[0], rules).names()  # an error that names the file, not the folder
    try:
        found = dataset.dataset(
            files,
            format="parquet",
            filesystem=folder.system,
            partitioning="hive",
            partition_base_dir=folder.path,
        )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(folder, error) from None
    return [
        _opened(folder, part.path, rules, dataset.get_partition_keys(part.partition_expression))
        for part in found.get_fragments()
    ]


def _opened(
    folder: Place, path: str, rules: FileRules, stated: Mapping[str, Any] | None = None
) -> ParquetFile:
    inside = path[len(folder.path) + 1 :]
    local = folder.local
    if local is not None:
        return ParquetFile(Path(folder.name) / inside, rules, stated=stated)
    return ParquetFile(Path(path), rules, stated=stated, place=folder / inside)
