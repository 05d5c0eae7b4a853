"""Files as sources: the ending decides which kind."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import EptaroError, InputError, unknown
from eptaro.inputs.files.arrow import ArrowFile
from eptaro.inputs.files.csv import CsvFile, StandardInput
from eptaro.inputs.files.jsonlines import JsonLines
from eptaro.inputs.files.many import ManyFiles
from eptaro.inputs.files.parquet import ParquetFile, unreadable
from eptaro.inputs.files.workbooks import read_sheet
from eptaro.inputs.sources import FrameSource, Source, TableSource
from eptaro.rules.files import FileRules

_BATCH = 1 << 20
_PACKED = (".gz", ".zst", ".bz2")
_STANDARD_INPUT = "-"


def _sheet(path: Path, rules: FileRules) -> Source:
    return TableSource(read_sheet(path, rules.sheet), str(path), of_text=True)


READERS: dict[str, Callable[[Path, FileRules], Source]] = {
    ".csv": CsvFile,
    ".tsv": CsvFile,
    ".parquet": ParquetFile,
    ".arrow": ArrowFile,
    ".feather": ArrowFile,
    ".ndjson": JsonLines,
    ".jsonl": JsonLines,
    ".xlsx": _sheet,
    ".xlsb": _sheet,
    ".ods": _sheet,
}


def open_files(paths: list[str], rules: FileRules | None = None) -> Source:
    """Return one or several files, patterns or folders of Parquet as one source.

    `-` is standard input (CSV), and an address such as sqlite:///sales.db a database,
    whose rows `rules.query` picks. Raises `InputError` for a file that is missing or whose
    ending is none of `READERS`.
    """
    rules = rules or FileRules()
    if len(paths) == 1 and "://" in paths[0]:
        from eptaro.inputs.databases import query_source

        return query_source(paths[0], rules.query)
    found = [file for path in paths for file in _expanded(path)]
    if not found:
        raise InputError("no file is given")
    for path in found:
        if found.count(path) > 1:
            raise InputError(f"{path}: is named twice; its rows would count twice")
    parts = [_opened(path, rules) for path in found]
    return parts[0] if len(parts) == 1 else ManyFiles(parts)


def opened_source(given: Any, rules: FileRules | None = None) -> Source:
    """Return a source, a file by its path, or a frame as a source."""
    if isinstance(given, Source):
        return given
    if isinstance(given, str | Path):
        return open_files([str(given)], rules)
    return FrameSource(given)


def _expanded(path: str) -> list[Path]:
    if path == _STANDARD_INPUT:
        return [Path(path)]
    file = Path(path)
    if file.is_dir():
        files = sorted(file.glob("*.parquet"))
        if not files:
            raise InputError(f"{path}: is a folder without Parquet files")
        return files
    if any(mark in path for mark in "*?[") and not file.exists():
        files = (
            sorted(Path().glob(path))
            if not file.is_absolute()
            else sorted(Path(file.anchor).glob(str(file.relative_to(file.anchor))))
        )
        if not files:
            raise InputError(f"{path}: no file fits this pattern")
        return files
    return [file]


def _opened(path: Path, rules: FileRules) -> Source:
    if str(path) == _STANDARD_INPUT:
        return StandardInput(rules)
    suffixes = [suffix.lower() for suffix in path.suffixes]
    ending = suffixes[-1] if suffixes else ""
    if ending in _PACKED and len(suffixes) > 1:
        ending = suffixes[-2]
        if ending not in (".csv", ".tsv"):
            raise InputError(f"{path}: only CSV files are read packed")
    if ending not in READERS:
        raise InputError(f"{path}: {unknown('file ending', ending, READERS)}")
    if not path.exists():
        near = [p.name for p in path.parent.glob("*") if p.suffix.lower() in READERS]
        hint = f" ({unknown('file', path.name, sorted(near))})" if near else ""
        raise InputError(f"{path}: there is no such file{hint}")
    if not path.is_file():
        raise InputError(f"{path}: is not a file")
    try:
        return READERS[ending](path, rules)
    except EptaroError:
        raise
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(path, error) from None
