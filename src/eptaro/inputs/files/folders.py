"""Folders of Parquet files: each file with the values that its folders' names state."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa

from eptaro.errors import InputError
from eptaro.inputs.files.parquet import ParquetFile, unreadable
from eptaro.rules.files import FileRules


def parquet_folder(path: Path, rules: FileRules) -> list[ParquetFile]:
    """Return the Parquet files of a folder and the folders in it, in the order of their paths.

    Folders called `NAME=VALUE` add a column to the rows of the files in them. Files and
    folders whose names start with `_` or `.` are left out.
    """
    from pyarrow import dataset

    files = [
        str(file)
        for file in sorted(path.rglob("*.parquet"))
        if not any(part[0] in "_." for part in file.relative_to(path).parts)
    ]
    if not files:
        raise InputError(f"{path}: is a folder without Parquet files")
    ParquetFile(Path(files[0]), rules).names()  # an error that names the file, not the folder
    try:
        found = dataset.dataset(
            files, format="parquet", partitioning="hive", partition_base_dir=str(path)
        )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(path, error) from None
    return [
        ParquetFile(
            Path(part.path), rules, stated=dataset.get_partition_keys(part.partition_expression)
        )
        for part in found.get_fragments()
    ]
