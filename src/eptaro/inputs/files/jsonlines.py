"""Newline-delimited JSON as a source, parsed by pyarrow one block of lines at a time."""

from __future__ import annotations

import re
from collections.abc import Iterator
from json import loads
from pathlib import Path
from typing import BinaryIO

import pyarrow as pa
from pyarrow import json

from eptaro.digest import file_digest
from eptaro.errors import InputError
from eptaro.inputs.sources import ColumnRequest, Source, check_columns
from eptaro.rules import FileRules

_BLOCK = 1 << 26  # bytes of text that are tables at one time
_NO_OBJECT = re.compile(rb"\s*[^{\s]")
_LINE = 1 << 22  # the most that one line may have, and what one thread parses


class JsonLines(Source):
    """A file with one JSON object per line.

    What kind of values a column holds is determined by the first block. A later one that holds
    other kinds is read by its own; a name that a block lacks is blank there.
    """

    of_text = True

    def __init__(self, path: Path, rules: FileRules) -> None:
        self.path, self.name, self._size = path, str(path), path.stat().st_size
        del rules
        with path.open("rb") as file:
            text = _lines(file)
            if not text.strip():
                raise InputError(f"{path}: is empty")
            self._first = self._parse_lines(text, None, 0)
            self._after = file.tell()

    def names(self) -> list[str]:
        """Return the names of all columns, of the first block at least."""
        return list(self._first.column_names)

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, about 64 MB of text at a time."""
        names = self.names()
        if not set(request.names) <= set(names):  # perhaps they come up further down
            names = list(dict.fromkeys(n for table in self._tables() for n in table.column_names))
        check_columns(request.names, names, self.name)
        for table in self._tables():
            there = set(table.column_names)
            columns = [
                table[name] if name in there else pa.chunked_array([pa.nulls(len(table))])
                for name in request.names
            ]
            yield pa.table(columns, request.names)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns; those of several blocks at once, so that each has one kind."""
        yield self._first if self._after == self._size else json.read_json(self.path)

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column's numbers as text."""
        parts = [table[name].cast(pa.string()) for table in self.batches(ColumnRequest(name))]
        return pa.chunked_array([c for part in parts for c in part.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of the file."""
        return file_digest(self.path)

    def _tables(self) -> Iterator[pa.Table]:
        yield self._first
        rows = len(self._first)
        with self.path.open("rb") as file:
            file.seek(self._after)
            while text := _lines(file):
                self.share = file.tell() / self._size
                table = self._parse_lines(text, self._first.schema, rows)
                rows += len(table)
                yield table

    def _parse_lines(self, text: bytes, schema: pa.Schema | None, rows: int) -> pa.Table:
        """Return lines as a table, of the known kinds if they are of these."""
        if not text.strip():
            return self._first.slice(0, 0)
        if text.count(b"\n{") < text.count(b"\n") or not text.startswith(b"{"):
            # The parser takes lines that are no objects amiss, to the end of the process.
            self._explain(text, rows, only=_NO_OBJECT)
        buffer, read_options = pa.py_buffer(text), json.ReadOptions(block_size=_LINE)
        if schema is not None:
            try:
                with_schema = json.ParseOptions(explicit_schema=schema)
                return json.read_json(pa.BufferReader(buffer), read_options, with_schema)
            except pa.ArrowInvalid:  # other kinds, or no JSON at all, an error below
                pass
        try:
            return json.read_json(pa.BufferReader(buffer), read_options)
        except pa.ArrowInvalid:
            self._explain(text, rows)
            raise

    def _explain(self, text: bytes, rows: int, only: re.Pattern[bytes] = re.compile(b"")) -> None:
        """Raise the error that names the first row that is not a JSON object, if there is one.

        Of the rows only those are looked at that fit a pattern.
        """
        for line in text.split(b"\n"):
            if line.strip():
                rows += 1
                if not only.match(line):
                    continue
                try:
                    value = loads(line)
                except (ValueError, RecursionError) as error:
                    raise InputError(f"{self.path}: row {rows:,} is not JSON: {error}") from None
                if not isinstance(value, dict):
                    raise InputError(f"{self.path}: row {rows:,} is not a JSON object")


def _lines(file: BinaryIO) -> bytes:
    """Return the next block of whole lines."""
    return file.read(_BLOCK) + file.readline()
