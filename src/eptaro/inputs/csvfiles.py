"""A CSV file as a source, plain or packed, parsed in a stream by pyarrow."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.errors import InputError, MeasureError
from eptaro.core.filerules import FileRules
from eptaro.inputs.digest import file_digest
from eptaro.inputs.sources import Source, Wanted, check_columns

_BLOCK = 1 << 23
_PEEK = 1 << 16
_CODED = pa.dictionary(pa.int32(), pa.string())


class CsvFile(Source):
    """A file of fields set apart by a mark, with a header (RFC 4180).

    Dates and groups are read as text, so that 007 is not 7 and no date is guessed at;
    numbers as floats, from which their decimals are recovered exactly.
    """

    of_text = True

    def __init__(self, path: Path, rules: FileRules) -> None:
        self.path, self.name, self._rules = path, str(path), rules
        self._size = path.stat().st_size
        tab = ".tsv" in path.suffixes and rules.delimiter == ","
        self._delimiter = "\t" if tab else rules.delimiter

    def names(self) -> list[str]:
        """Return the names in the header."""
        try:
            with pa.input_stream(str(self.path), compression="detect") as stream:
                start = stream.read(_PEEK)
                while b"\n" not in start and (more := stream.read(_PEEK)):
                    start += more
            text = start.decode(self._encoding(), errors="replace").lstrip("\ufeff")
            header = next(csv.reader(io.StringIO(text), delimiter=self._delimiter), None)
        except (pa.ArrowException, OSError, csv.Error) as error:
            raise self._unreadable(error) from None
        if not header:
            raise InputError(
                f"{self.path}: is empty; a CSV file begins with a line of column names"
            )
        return header

    def _encoding(self) -> str:
        return self._rules.encoding

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns, about 8 MB of text at a time."""
        check_columns(wanted.names, self.names(), self.name)
        types: dict[str, pa.DataType] = dict.fromkeys(wanted.names, _CODED)
        types |= dict.fromkeys(wanted.numbers, pa.float64())
        try:
            yield from self._parsed(wanted.names, types)
        except pa.ArrowInvalid as error:
            self._explain(wanted, error)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns as text."""
        names = self.names()
        check_columns(dict.fromkeys(names), names, self.name)
        try:
            yield from self._parsed(names, dict.fromkeys(names, pa.string()))
        except pa.ArrowInvalid as error:
            raise self._unreadable(error) from None

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        parts = [table[name] for table in self._parsed([name], {name: pa.string()})]
        return pa.chunked_array([c for part in parts for c in part.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of the file."""
        return file_digest(self.path)

    def _parsed(self, names: list[str], types: dict[str, pa.DataType]) -> Iterator[pa.Table]:
        from pyarrow import csv as arrow_csv

        convert = arrow_csv.ConvertOptions(
            include_columns=names, column_types=types, null_values=[""], strings_can_be_null=True,
            decimal_point=self._rules.decimal,
        )  # fmt: skip
        parse = arrow_csv.ParseOptions(delimiter=self._delimiter, newlines_in_values=True)
        read = arrow_csv.ReadOptions(block_size=_BLOCK, encoding=self._encoding())
        try:
            with pa.OSFile(str(self.path)) as raw:
                stream: Any = raw
                if packing := _packing(self.path):
                    stream = pa.CompressedInputStream(raw, packing)
                reader = arrow_csv.open_csv(
                    stream, read_options=read, parse_options=parse, convert_options=convert
                )
                for batch in reader:
                    self.share = raw.tell() / max(self._size, 1)
                    yield pa.Table.from_batches([batch])
        except pa.ArrowInvalid:
            raise
        except (pa.ArrowException, OSError, UnicodeError) as error:
            raise self._unreadable(error) from None

    def _explain(self, wanted: Wanted, error: Exception) -> None:
        """Raise the error that names the first row whose number cannot be read."""
        mark = "," if self._rules.decimal == "," else r"\."
        number = rf"^[ \t]*[-+]?(\d+{mark}?\d*|{mark}\d+)([eE][-+]?\d+)?[ \t]*$"
        if "conversion error" in str(error):
            for name in wanted.numbers:
                texts = self.digits(name)
                fits = pc.fill_null(pc.match_substring_regex(texts, number), True)
                row = pc.index(fits, False).as_py()
                if row >= 0:
                    value = texts[row].as_py()
                    raise MeasureError(
                        f"{self.path}: row {row + 1:,} of {name!r}: {value!r} is not a number"
                    ) from None
        raise self._unreadable(error) from None

    def _unreadable(self, error: Exception) -> InputError:
        return InputError(f"{self.path}: cannot be read: {' '.join(str(error).split())}")


def _packing(path: Path) -> str | None:
    return {".gz": "gzip", ".zst": "zstd", ".bz2": "bz2"}.get(path.suffix.lower())
