"""CSV and Parquet files as sources."""

from __future__ import annotations

import csv
from pathlib import Path

import pyarrow as pa

from eptaro.core.errors import InputError, unknown
from eptaro.inputs.sources import Source, Wanted, check_columns

READABLE = (".csv", ".parquet")


def open_files(paths: list[Path]) -> Source:
    """Return one or several files of one kind as a source.

    Raises `InputError` for a file that is missing, or whose ending is none of `READABLE`.
    """
    if not paths:
        raise InputError("no file is given")
    for path in paths:
        if path.suffix.lower() not in READABLE:
            raise InputError(f"{path}: {unknown('file ending', path.suffix, READABLE)}")
        if not path.exists():
            near = [p.name for p in path.parent.glob("*") if p.suffix.lower() in READABLE]
            hint = f" ({unknown('file', path.name, sorted(near))})" if near else ""
            raise InputError(f"{path}: there is no such file{hint}")
        if not path.is_file():
            raise InputError(f"{path}: is not a file")
    for path in paths:
        if paths.count(path) > 1:
            raise InputError(f"{path}: is named twice; its rows would count twice")
    if len({path.suffix.lower() for path in paths}) > 1:
        raise InputError("the files are of several kinds; give CSV or Parquet files, not both")
    return CsvSource(paths) if paths[0].suffix.lower() == ".csv" else ParquetSource(paths)


class _Files(Source):
    def __init__(self, paths: list[Path]) -> None:
        self.paths = paths
        self.name = str(paths[0]) if len(paths) == 1 else f"{paths[0]} and {len(paths) - 1} more"

    def read(self, wanted: Wanted) -> pa.Table:
        """Return the wanted columns of all files, one below the other."""
        parts = []
        for path in self.paths:
            try:
                parts.append(self.read_one(path, wanted))
            except (pa.ArrowException, OSError, UnicodeDecodeError, csv.Error) as error:
                raise InputError(f"{path}: cannot be read: {_one_line(error)}") from None
        if len(parts) == 1:
            return parts[0]
        try:
            return pa.concat_tables(parts, promote_options="permissive")
        except pa.ArrowException as error:
            raise InputError(f"{self.name}: columns differ in kind: {_one_line(error)}") from None

    def read_one(self, path: Path, wanted: Wanted) -> pa.Table:
        raise NotImplementedError


class CsvSource(_Files):
    """Comma-separated files with a header, in UTF-8."""

    of_text = True

    def read_one(self, path: Path, wanted: Wanted) -> pa.Table:
        """Parse the wanted columns; group columns stay text, so that 007 is not 7."""
        with path.open(encoding="utf-8-sig", newline="") as file:
            header = next(csv.reader(file), None)
        if header is None:
            raise InputError(f"{path}: is empty; a CSV file begins with a line of column names")
        check_columns(wanted, header, str(path))
        coded = pa.dictionary(pa.int32(), pa.string())
        types = {name: coded for name in wanted.groups if name != wanted.date}
        return _parse(path, wanted.names, types)

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column's numbers as they were written."""
        parts = [_parse(path, [name], {name: pa.string()})[name] for path in self.paths]
        return pa.chunked_array([chunk for part in parts for chunk in part.chunks], pa.string())


def _parse(path: Path, columns: list[str], types: dict[str, pa.DataType]) -> pa.Table:
    from pyarrow import csv as arrow_csv

    convert = arrow_csv.ConvertOptions(
        include_columns=columns, column_types=types, null_values=[""], strings_can_be_null=True
    )
    parse = arrow_csv.ParseOptions(newlines_in_values=True)
    return arrow_csv.read_csv(path, parse_options=parse, convert_options=convert)


class ParquetSource(_Files):
    """Parquet files."""

    def read_one(self, path: Path, wanted: Wanted) -> pa.Table:
        """Read the wanted columns."""
        from pyarrow import parquet

        with parquet.ParquetFile(path) as file:
            check_columns(wanted, file.schema_arrow.names, str(path))
            texts = [
                name
                for name in wanted.groups
                if pa.types.is_string(file.schema_arrow.field(name).type)
            ]
        table = parquet.read_table(path, columns=wanted.names, read_dictionary=texts)
        return table.select(wanted.names)


def _one_line(error: Exception) -> str:
    return " ".join(str(error).split())
