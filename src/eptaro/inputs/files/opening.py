"""Files as sources: the ending decides which kind."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import EptaroError, InputError, unknown
from eptaro.inputs.files.csv import CsvFile, StandardInput
from eptaro.inputs.files.many import ManyFiles
from eptaro.inputs.files.parquet import ParquetFile, unreadable
from eptaro.inputs.sources import FrameSource, Source, TableSource
from eptaro.places import Place, is_stored, scheme_of
from eptaro.rules.files import FileRules

_PACKED = (".gz", ".zst", ".bz2")
_STANDARD_INPUT = "-"


def _arrow(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.arrow import ArrowFile  # as each kind is loaded where it is met

    return ArrowFile(path, rules)


def _json(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.jsonlines import JsonLines

    return JsonLines(path, rules)


def _sheet(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.sheets.workbooks import read_sheet

    table, unusable = read_sheet(path, rules.sheet)
    return TableSource(table, str(path), of_text=True, unusable=unusable)


READERS: dict[str, Callable[[Path, FileRules], Source]] = {
    ".csv": CsvFile,
    ".tsv": CsvFile,
    ".parquet": ParquetFile,
    ".arrow": _arrow,
    ".feather": _arrow,
    ".ndjson": _json,
    ".jsonl": _json,
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
    if len(paths) == 1 and scheme_of(paths[0]) and not is_stored(paths[0]):
        from eptaro.inputs.databases import query_source

        return query_source(paths[0], rules.query)
    parts = [part for path in paths for part in _sources(path, rules)]
    if not parts:
        raise InputError("no file is given")
    for name, count in Counter(part.name for part in parts).items():
        if count > 1:
            raise InputError(f"{name}: is named twice; its rows would count twice")
    return parts[0] if len(parts) == 1 else ManyFiles(parts)


def opened_source(given: Any, rules: FileRules | None = None) -> Source:
    """Return a source, a file by its path, or a frame as a source."""
    if isinstance(given, Source):
        return given
    if isinstance(given, str | Path):
        return open_files([str(given)], rules)
    return FrameSource(given)


def _sources(path: str, rules: FileRules) -> Sequence[Source]:
    """Return the files of a path, a pattern, a folder or an address."""
    if scheme_of(path):
        from eptaro.inputs.files.stored import stored_files

        stored = stored_files(path, rules)
        if not isinstance(stored, Path):
            return stored
        path = str(stored)
    file = Path(path)
    if path != _STANDARD_INPUT and file.is_dir():
        from eptaro.inputs.files.folders import parquet_folder

        return parquet_folder(Place.of(path), rules)
    if not any(mark in path for mark in "*?[") or file.exists():
        return [_opened(file, rules)]
    start = Path(file.anchor) if file.is_absolute() else Path()
    found = sorted(start.glob(str(file.relative_to(start))))
    if not found:
        raise InputError(f"{path}: no file fits this pattern")
    return [_opened(one, rules) for one in found]


def ending_of(path: Path, rules: FileRules) -> str:
    """Return the ending that says how a file is read, without that of its packing."""
    suffixes = [suffix.lower() for suffix in path.suffixes]
    packed = bool(suffixes) and suffixes[-1] in _PACKED
    own = suffixes[:-1] if packed else suffixes
    ending = own[-1] if own else ""
    if rules.like is not None:
        ending = "." + rules.like.lower().lstrip(".")
    if packed and ending and ending not in (".csv", ".tsv"):
        raise InputError(f"{path}: only CSV files are read packed")
    return ending


def readable_ending(path: Path, rules: FileRules) -> str:
    """Return the ending that a file is read by; raises `InputError` where there is no reader."""
    ending = ending_of(path, rules)
    if ending not in READERS:
        hint = "" if rules.like else "; say with like= how it is written, such as like=csv"
        raise InputError(f"{path}: {unknown('file ending', ending, READERS)}{hint}")
    if rules.header_row > 1 and ending not in (".csv", ".tsv"):
        raise InputError(f"{path}: header_row={rules.header_row} goes with CSV files alone")
    return ending


def _opened(path: Path, rules: FileRules) -> Source:
    if str(path) == _STANDARD_INPUT:
        return StandardInput(rules)
    ending = readable_ending(path, rules)
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
