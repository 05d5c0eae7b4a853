"""Files as sources: the ending decides which kind."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import EptaroError, InputError, unknown
from eptaro.inputs.files.arrow import ArrowFile
from eptaro.inputs.files.csv import CsvFile, StandardInput
from eptaro.inputs.files.digest import file_digest
from eptaro.inputs.files.jsonlines import JsonLines
from eptaro.inputs.files.workbooks import read_sheet
from eptaro.inputs.sources import Source, TableSource, Wanted, check_columns, sound
from eptaro.rules.files import FileRules

_BATCH = 1 << 20
_PACKED = (".gz", ".zst", ".bz2")
_STANDARD_INPUT = "-"


class ParquetFile(Source):
    """A Parquet file, read a million rows at a time; with `groups` some row groups alone."""

    def __init__(self, path: Path, rules: FileRules, groups: Sequence[int] | None = None) -> None:
        self.path, self.name, self._groups = path, str(path), groups
        del rules

    def _open(self) -> Any:
        from pyarrow import parquet

        try:
            return parquet.ParquetFile(self.path)
        except (pa.ArrowException, OSError, UnicodeError) as error:
            raise _unreadable(self.path, error) from None

    def names(self) -> list[str]:
        """Return the names of all columns."""
        with self._open() as file:
            return list(file.schema_arrow.names)

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns; text to group by is read as codes."""
        from pyarrow import parquet

        with self._open() as file:
            schema, rows = file.schema_arrow, file.metadata.num_rows
        check_columns(wanted.names, schema.names, self.name)
        coded = [
            name
            for name in dict.fromkeys([*wanted.groups, *wanted.others])
            if pa.types.is_string(schema.field(name).type)
        ]
        done = 0
        with parquet.ParquetFile(self.path, read_dictionary=coded) as file:
            for table in _pieces(file, wanted.names, self._groups):
                done += table.num_rows
                self.share = done / max(rows, 1)
                yield sound(table.select(wanted.names))

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns, some rows at a time."""
        with self._open() as file:
            for batch in file.iter_batches(_BATCH):
                yield sound(pa.Table.from_batches([batch]))

    def fingerprint(self) -> str:
        """Return a digest of the file, and which part of it this is."""
        part = "" if self._groups is None else f" {self._groups[0]}..{self._groups[-1]}"
        return file_digest(self.path) + part

    def parts(self, rows: int) -> list[ParquetFile]:
        """Return the file in parts of at least so many rows, row groups kept whole."""
        found: list[ParquetFile] = []
        with self._open() as file:
            sizes = [file.metadata.row_group(i).num_rows for i in range(file.num_row_groups)]
        start, held = 0, 0
        for number, size in enumerate(sizes):
            held += size
            if held >= rows or number == len(sizes) - 1:
                groups = range(start, number + 1)
                found.append(ParquetFile(self.path, FileRules(), groups))
                start, held = number + 1, 0
        return found


def _pieces(file: Any, columns: list[str], chosen: Sequence[int] | None) -> Iterator[pa.Table]:
    """Yield a Parquet file's row groups, or the chosen ones, large ones in batches."""
    groups = range(file.num_row_groups) if chosen is None else chosen
    largest = max((file.metadata.row_group(i).num_rows for i in groups), default=0)
    if largest > 2 * _BATCH:
        for batch in file.iter_batches(_BATCH, columns=columns, row_groups=list(groups)):
            yield pa.Table.from_batches([batch])
        return
    for number in groups:
        yield file.read_row_group(number, columns=columns)


class ManyFiles(Source):
    """Several files of one kind, one after the other."""

    def __init__(self, parts: list[Source]) -> None:
        self.parts = parts
        self.name = f"{parts[0].name} and {len(parts) - 1} more"
        self.of_text = parts[0].of_text

    def names(self) -> list[str]:
        """Return the names of the first file's columns."""
        return self.parts[0].names()

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns of every file."""
        for number, part in enumerate(self.parts):
            for table in part.batches(wanted):
                self.share = (number + (part.share or 0.0)) / len(self.parts)
                yield table

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns of every file."""
        for part in self.parts:
            yield from part.whole()

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        columns = [part.digits(name) for part in self.parts]
        return pa.chunked_array([c for column in columns for c in column.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of all files, whatever their order."""
        joined = " ".join(sorted(part.fingerprint() for part in self.parts))
        return hashlib.blake2b(joined.encode(), digest_size=16).hexdigest()


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
        raise _unreadable(path, error) from None


def _unreadable(path: Path, error: Exception) -> InputError:
    return InputError(f"{path}: cannot be read: {' '.join(str(error).split())}")
