"""The demo's files: the ones shipped inside the package, and larger ones made to order."""

from __future__ import annotations

import gzip
from functools import partial
from importlib import resources
from itertools import chain
from pathlib import Path

from eptaro.demo.generate import DATASETS, SEED, Dataset
from eptaro.errors import InputError, unknown
from eptaro.outputs.files import replace_whole
from eptaro.outputs.text import write_csv_rows

KINDS = ("csv", "parquet")
SHIPPED = (*(dataset.name for dataset in DATASETS), "takings", "stores", "ships")
CONFIGS = ("eptaro.toml", "companies.toml")


def copy_shipped(folder: Path, *, replace: bool = False) -> list[Path]:
    """Copy the shipped files to a folder, which is made where it is missing.

    Files that stand there unchanged are left. Raises `InputError` where one differs and
    `replace` is false.
    """
    _make(folder)
    paths = []
    contents = {f"{name}.csv": shipped(name) for name in SHIPPED}
    data = resources.files("eptaro.demo").joinpath("data")
    contents |= {name: data.joinpath(name).read_bytes() for name in CONFIGS}
    for name, content in contents.items():
        target = folder / name
        if not target.exists() or target.read_bytes() != content:
            _refuse(target, replace)
            replace_whole(target, partial(_write, content))
        paths.append(target)
    return paths


def shipped(name: str) -> bytes:
    """Return the content of one shipped file."""
    packed = resources.files("eptaro.demo").joinpath("data", f"{name}.csv.gz").read_bytes()
    return gzip.decompress(packed)


def generate(
    folder: Path, rows: int, *, kind: str = "csv", replace: bool = False, seed: int = SEED
) -> list[Path]:
    """Write about `rows` rows in all as three files of a kind, and return their paths."""
    if kind not in KINDS:
        raise InputError(unknown("kind of file", kind, KINDS))
    if rows < 100:
        raise InputError(f"rows={rows} is too few for a demo; ask for 100 or more")
    _make(folder)
    paths = []
    for dataset in DATASETS:
        target = folder / f"{dataset.name}.{kind}"
        _refuse(target, replace)
        count = round(rows * dataset.share)
        paths.append(replace_whole(target, partial(_fill, dataset, count, kind, seed)))
    return paths


def _write(content: bytes, path: Path) -> None:
    path.write_bytes(content)


def _fill(dataset: Dataset, rows: int, kind: str, seed: int, path: Path) -> None:
    chunks = dataset.chunks(rows, seed)
    first = next(chunks)
    if kind == "parquet":
        from pyarrow import parquet

        with parquet.ParquetWriter(path, first.schema) as writer:
            for chunk in chain([first], chunks):
                writer.write_table(chunk)
        return
    with path.open("wb") as sink:
        for number, chunk in enumerate(chain([first], chunks)):
            write_csv_rows(chunk, sink, header=not number)


def _make(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"{folder}: the folder cannot be made: {error.strerror}") from None


def _refuse(target: Path, replace: bool) -> None:
    if target.exists() and not replace:
        raise InputError(f"{target}: already exists; give --replace or another --folder")
