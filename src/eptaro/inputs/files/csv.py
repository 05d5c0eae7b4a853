"""CSV files as sources, plain or compressed, parsed in a stream by pyarrow."""

from __future__ import annotations

import contextlib
import csv
import io
import re
import sys
import threading
import weakref
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import field
from functools import cached_property
from itertools import islice
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.core.calendars.days import FIRST_DAY
from eptaro.core.kernels.parallel import is_in_turn
from eptaro.digest import digest_of_file, file_digest, start_digest
from eptaro.errors import InputError, MeasureError, NoRowsError, count_noun
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.reading import day_numbers
from eptaro.inputs.sources import ColumnRequest, Source, check_columns
from eptaro.option import setting
from eptaro.paths import StoragePath
from eptaro.record import Record, record
from eptaro.rules import FileRules

_BLOCK = 1 << 22
_LEAST_CUT = 1 << 23  # bytes of a file that is parsed in blocks side by side
_PEEK = 1 << 16
_LINES_ABOVE = 100  # lines that may be above the names, to look for these
_LONGEST_HEADER = 1 << 24  # bytes
_FIRST_DATES = 100  # lines that are looked at
_RAGGED = re.compile(r"Expected (?P<wanted>\d+) columns, got (?P<has>\d+): (?P<row>.*)", re.DOTALL)
_CUT_OFF = " ..."  # what is said of a long row ends so
_ISO_DAY = re.compile(r"\d{4}-\d\d-\d\d", re.ASCII)
_LARGE = 1 << 30  # bytes unpacked that may have any ratio
_MOST_RATIO = 1_200  # of gzip, the widest used packing, 1,032 is the most


_ZIPPED = (".csv", ".tsv", ".txt", ".dat")  # endings of files in archives
_MOST_KEPT = 1 << 29  # bytes of a file whose text is kept


@record
class _SharedRead(Record):
    """The files whose text is kept while books are read, and that of each by how it is written."""

    names: Collection[str]
    texts: dict[tuple[str, str], list[pa.Table]] = field(default_factory=dict)


_KEPT: ContextVar[_SharedRead | None] = ContextVar("kept", default=None)


@contextmanager
def files_read_once(names: Collection[str]) -> Iterator[None]:
    """Keep the text of some files meanwhile, so that several books of one file read it once; very
    large files are read each time.
    """
    token = _KEPT.set(_SharedRead(names))
    try:
        yield
    finally:
        _KEPT.reset(token)


def _convert_columns(table: pa.Table, names: list[str], types: dict[str, pa.DataType]) -> pa.Table:
    """Return some columns of a table of texts, in the types that are wanted."""
    columns = [
        table[name]
        if types[name] == pa.string()
        else pc.utf8_trim_whitespace(table[name]).cast(types[name])
        for name in names
    ]
    return pa.table(columns, names=names)


def _rows_from(begin: int, tables: Iterator[pa.Table]) -> Iterator[pa.Table]:
    """Yield the rows of tables but for the first ones."""
    for table in tables:
        passed_over = min(begin, table.num_rows)
        begin -= passed_over
        if passed_over < table.num_rows:
            yield table.slice(passed_over)


class CsvFile(Source):
    """A file of fields separated by a mark, with a header (RFC 4180).

    Groups and dates are read as text, so that 007 is not 7 and no date is guessed at; days in
    ISO 8601 may be read as days. Numbers are floats, from which their decimals are recovered
    exactly.
    """

    of_text = undecided = True

    def __init__(self, path: Path, rules: FileRules, place: StoragePath | None = None) -> None:
        self.path, self.name, self._rules, self._place = path, str(place or path), rules, place
        self._size = path.stat().st_size if place is None else place.size()
        tabbed = ".tsv" in path.suffixes or (rules.like or "").lower().lstrip(".") == "tsv"
        tab = tabbed and rules.delimiter == ","
        self._delimiter = "\t" if tab else rules.delimiter
        self.decimal = "," if rules.decimal == "," else "."

    def names(self) -> list[str]:
        """Return the names in the header, which is read once."""
        return list(self._names)

    @cached_property
    def _names(self) -> list[str]:
        try:
            header = next(self._first_rows(), None)
        except (pa.ArrowException, OSError, csv.Error, LookupError, UnicodeError) as error:
            raise self._unreadable(error) from None
        if not header:
            raise InputError(
                f"{self.name}: is empty; a CSV file begins with a line of column names"
            )
        if self._rules.header_row == "none":
            return [f"c{number}" for number, _ in enumerate(header, 1)]
        return header

    def _first_rows(self) -> Iterator[list[str]]:
        """Yield the fields of the first lines, from that of the names; the last may be cut off."""
        text = self._beginning.decode(self._encoding(), errors="replace").lstrip("\ufeff")
        lines = islice(io.StringIO(text, newline=""), self._rules.lines_above, None)
        return csv.reader(lines, delimiter=self._delimiter)

    @cached_property
    def _beginning(self) -> bytes:
        """The beginning of the file, with at least the line of its column names."""
        parts, size, lines = [], 0, 0
        with self._open() as raw, self._unpack(raw) as stream:
            while part := stream.read(_PEEK):
                parts.append(part)
                size += len(part)
                lines += max(part.count(b"\n"), part.count(b"\r"))
                if lines > self._rules.lines_above:
                    break
                if size > _LONGEST_HEADER:
                    raise InputError(
                        f"{self.name}: its first line has over {_LONGEST_HEADER >> 20} MB; a CSV "
                        f"file begins with a line of column names"
                    )
        return b"".join(parts)

    def _open(self) -> Any:
        return pa.OSFile(str(self.path)) if self._place is None else self._place.open_input()

    def _unpack(self, raw: Any) -> Any:
        if self.path.suffix.lower() == ".zip":
            return pa.PythonFile(io.BufferedReader(_ZippedFile(raw, self.name), _PEEK), mode="r")
        packing = _packing(self.path)
        return pa.CompressedInputStream(raw, packing) if packing else raw

    def _check_ratio(self, raw: Any, blocks: int) -> None:
        """Raise `InputError` where a packed file turns out to hold little but repetition."""
        unpacked, packed = blocks * _BLOCK, max(raw.tell(), 1)
        if unpacked > _LARGE and unpacked > _MOST_RATIO * packed:
            raise InputError(
                f"{self.name}: {packed:,} bytes unpack to over {unpacked:,}, more than "
                f"{_MOST_RATIO:,} times as many; unpack the file first if that is meant"
            )

    def _encoding(self) -> str:
        """Return the encoding; a file that begins with the mark of UTF-16 is in that."""
        if self._rules.encoding != FileRules.encoding:
            return self._rules.encoding
        return "utf-16" if self._begins in (b"\xff\xfe", b"\xfe\xff") else self._rules.encoding

    @cached_property
    def _begins(self) -> bytes:
        with self._open() as raw, self._unpack(raw) as stream:
            return bytes(stream.read(2))

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, about 4 MB of text at a time."""
        self._check(request.names)
        types: dict[str, pa.DataType] = dict.fromkeys(request.names, pa.string())
        types |= dict.fromkeys(request.numbers, pa.float64())
        try:
            if request.plain_days and self._begins_with_days(request.date):
                yield from self._dates_as_days(request, types)
            else:
                yield from self._parse_file(request.names, types)
        except pa.ArrowInvalid as error:
            self._explain(request, error)

    def _begins_with_days(self, date: str) -> bool:
        """Return whether the first dates are days in ISO 8601."""
        place = self.names().index(date)
        try:
            rows = [*islice(self._first_rows(), _FIRST_DATES)]
        except csv.Error:
            return False
        rows = rows[self._rules.header_row != "none" : -1]
        dates = [text for row in rows if len(row) > place and (text := row[place].strip())]
        return bool(dates) and all(map(_ISO_DAY.fullmatch, dates))

    def _dates_as_days(
        self, request: ColumnRequest, types: dict[str, pa.DataType]
    ) -> Iterator[pa.Table]:
        """Yield the wanted columns with dates as days, which is quicker; as text from the first
        block that holds another date.
        """
        rows = 0
        try:
            for table in self._parse_file(request.names, types | {request.date: pa.date32()}):
                if day_numbers(table[request.date]).min(initial=0) < FIRST_DAY:  # of a year 0000
                    break
                rows += table.num_rows
                yield table
            else:
                return
        except pa.ArrowInvalid:  # of a date, or of a number, which is met again
            pass
        yield from _rows_from(rows, self._parse_file(request.names, types))

    def _check(self, names: list[str]) -> None:
        """Raise `InputError` for a missing column; it says where a later line names them all."""
        try:
            check_columns(names, self.names(), self.name)
        except InputError as error:
            if self._rules.header_row != 1 or (line := self._line_naming(names)) < 2:
                raise
            cure = f"line {line} names it: use {setting(FileRules, 'header_row', line)}"
            raise InputError(f"{error}; {cure}") from None

    def _line_naming(self, names: list[str]) -> int:
        """Return which of the first lines holds all of some names; 0 for none."""
        text = self._beginning.decode(self._encoding(), errors="replace")
        for number, line in enumerate(text.splitlines()[:_LINES_ABOVE], 1):
            fields = next(csv.reader([line], delimiter=self._delimiter), [])
            if {*names} <= {*fields}:
                return number
        return 0

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns as text."""
        names = self.names()
        check_columns(dict.fromkeys(names), names, self.name)
        try:
            yield from self._parse_file(names, dict.fromkeys(names, pa.string()))
        except pa.ArrowInvalid as error:
            raise self._unreadable(error) from None

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        parts = [table[name] for table in self._parse_file([name], {name: pa.string()})]
        return pa.chunked_array([c for part in parts for c in part.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of the file."""
        if self._place is None:
            return file_digest(self.path)
        with self._place.open_input() as file:
            return digest_of_file(file, self._size)

    def _parse_file(self, names: list[str], types: dict[str, pa.DataType]) -> Iterator[pa.Table]:
        cache = _KEPT.get()
        if cache is None or self.name not in cache.names or not self._may_be_kept:
            yield from self._stream(names, types)
            return
        key = self.name, repr(self._rules)
        if key not in cache.texts:
            every = self.names()
            cache.texts[key] = [*self._stream(every, dict.fromkeys(every, pa.string()))]
        try:
            tables = [_convert_columns(table, names, types) for table in cache.texts[key]]
        except pa.ArrowInvalid:  # which the reader of the file may know how to read, or explains
            yield from self._stream(names, types)
            return
        yield from tables

    @property
    def _may_be_kept(self) -> bool:
        return self._size <= _MOST_KEPT and self._rules.decimal == "."

    def _stream(self, names: list[str], types: dict[str, pa.DataType]) -> Iterator[pa.Table]:
        """Yield some columns of the file, parsed side by side where it may be cut."""
        rows = 0
        try:
            if self._may_be_cut:
                try:
                    for table in self._stream_of_blocks(names, types):
                        rows += table.num_rows
                        yield table
                except pa.ArrowInvalid:  # it is met again, with the row's number in the file
                    pass
                else:
                    return
            yield from _rows_from(rows, self._whole_stream(names, types))
        except pa.ArrowInvalid:  # which the caller explains
            raise
        except (pa.ArrowException, OSError, UnicodeError) as error:
            raise self._unreadable(error) from None

    @property
    def _may_be_cut(self) -> bool:
        """Whether the file is plain text that begins with the names, and long enough to be cut."""
        plain = self._encoding() == FileRules.encoding and self._rules.lines_above == 0
        packed = _packing(self.path) or self.path.suffix.lower() == ".zip"
        one_byte = len(self._delimiter.encode()) == 1
        return plain and one_byte and not packed and self._size >= _LEAST_CUT and not is_in_turn()

    def _stream_of_blocks(
        self, names: list[str], types: dict[str, pa.DataType]
    ) -> Iterator[pa.Table]:
        from pyarrow import csv as arrow_csv

        from eptaro.inputs.files.csvblocks import RowBlocks

        parse, convert = self._parse_options(), self._convert_options(names, types)

        def parse_block(text: pa.Buffer, first: bool) -> pa.Table:
            return arrow_csv.read_csv(
                pa.BufferReader(text),
                read_options=self._read_options(first, text.size, use_threads=False),
                parse_options=parse,
                convert_options=convert,
            )

        with self._open() as raw:
            blocks = RowBlocks(raw, self._delimiter.encode())
            for table in blocks.parse(parse_block):
                self.share = raw.tell() / self._size
                yield table
            if blocks.uncut is not None:
                raw.seek(blocks.uncut)
                yield from self._parse_stream(raw, raw, names, types, first=not blocks.uncut)

    def _whole_stream(self, names: list[str], types: dict[str, pa.DataType]) -> Iterator[pa.Table]:
        with self._open() as raw, self._unpack(raw) as stream:
            yield from self._parse_stream(raw, stream, names, types)

    def _parse_stream(
        self,
        raw: Any,
        stream: Any,
        names: list[str],
        types: dict[str, pa.DataType],
        *,
        first: bool = True,
    ) -> Iterator[pa.Table]:
        """Yield the columns of what is left of a stream, which begins with the names if `first`."""
        from pyarrow import csv as arrow_csv

        reader = arrow_csv.open_csv(
            stream,
            read_options=self._read_options(first, _BLOCK),
            parse_options=self._parse_options(),
            convert_options=self._convert_options(names, types),
        )
        for number, batch in enumerate(reader):
            if stream is not raw:
                self._check_ratio(raw, number)
            self.share = raw.tell() / max(self._size, 1)
            yield pa.Table.from_batches([batch])

    def _parse_options(self) -> Any:
        from pyarrow.csv import ParseOptions

        return ParseOptions(delimiter=self._delimiter, newlines_in_values=True)

    def _convert_options(self, names: list[str], types: dict[str, pa.DataType]) -> Any:
        from pyarrow.csv import ConvertOptions

        return ConvertOptions(
            include_columns=names,
            column_types=types,
            null_values=[""],
            strings_can_be_null=True,
            decimal_point=self._rules.decimal,
        )

    def _read_options(self, first: bool, block: int, *, use_threads: bool = True) -> Any:
        from pyarrow.csv import ReadOptions

        named = first and self._rules.header_row != "none"
        return ReadOptions(
            use_threads=use_threads,
            block_size=block,
            encoding=self._encoding(),
            skip_rows=self._rules.lines_above if first else 0,
            column_names=None if named else self.names(),
        )

    def _explain(self, request: ColumnRequest, error: Exception) -> None:
        """Raise the error that names the first row whose number cannot be read."""
        mark = "," if self._rules.decimal == "," else r"\."
        number = rf"^[ \t]*[-+]?(\d+{mark}?\d*|{mark}\d+)([eE][-+]?\d+)?[ \t]*$"
        if "conversion error" in str(error):
            for name in request.numbers:
                texts = self.raw_text(name)
                fits = pc.fill_null(pc.match_substring_regex(texts, number), True)
                row = pc.index(fits, False).as_py()
                if row >= 0:
                    from eptaro.inputs.columns.numbers import cure

                    value = texts[row].as_py()
                    raise MeasureError(
                        f"{self.name}: row {row + 1:,} of {name!r}: {value!r} is not a number"
                        f"{cure(value)}"
                    ) from None
        raise self._unreadable(error) from None

    def _unreadable(self, error: Exception) -> InputError:
        if "straddling object" in str(error):
            return InputError(
                f"{self.name}: cannot be read: a row is longer than {_BLOCK >> 20} MB; is a quote "
                f"left open, or a line end missing?"
            )
        if "cannot infer number of columns" in str(error):  # of a header that no line end follows
            return NoRowsError(f"{self.name}: has column names but no rows")
        if ragged := _RAGGED.search(str(error)):
            has, wanted = int(ragged["has"]), int(ragged["wanted"])
            line = self._line_of(ragged["row"], has)
            where = f"line {line:,}" if line else f"the row {ragged['row']!r}"
            why = f"is a {self._delimiter!r} within a field that is not quoted?"
            why = why if has > wanted else "is a field missing, or a line end within one?"
            why = self._cure_of_spaces(ragged["row"]) or why
            return InputError(
                f"{self.name}: {where} has {count_noun(has, 'field')} for "
                f"{count_noun(wanted, 'column')}; {why}"
            )
        cure = self._cure_of_spaces(str(error))
        words = " ".join(str(error).split())
        return InputError(f"{self.name}: cannot be read: {words}{cure and f'; {cure}'}")

    def _cure_of_spaces(self, row: str) -> str:
        """Return what helps where a row has spaces before quotes, which are in the field then."""
        mark = self._delimiter
        if f'{mark} "' not in row:
            return ""
        return f"remove the spaces before quotes, such as with sed 's/{mark} *\"/{mark}\"/g'"

    def _line_of(self, row: str, fields: int) -> int:
        """Return the number of the first line that is a row, which may be cut off, with so many
        fields; 0 where none is found.
        """
        text = row.removesuffix(_CUT_OFF)
        if "\n" in text or "\r" in text:  # several lines, in quotes
            return 0
        begin = text.encode(self._encoding(), errors="replace")
        with (
            contextlib.suppress(OSError, UnicodeError, pa.ArrowException, csv.Error),
            self._open() as raw,
            self._unpack(raw) as stream,
            io.BufferedReader(stream) as lines,
        ):
            for number, line in enumerate(lines, 1):
                if not line.startswith(begin):
                    continue
                whole = line.decode(self._encoding()).rstrip("\r\n")
                if len(next(csv.reader([whole], delimiter=self._delimiter))) == fields:
                    return number
        return 0


class StandardInput(CsvFile):
    """Standard input as CSV, copied to a file without a name, so that it can be read again.

    The file is gone with the process, however that ends.
    """

    def __init__(self, rules: FileRules) -> None:
        if sys.stdin is None or sys.stdin.closed:
            raise InputError("standard input is closed; name a file, or send rows to it")
        import shutil
        import tempfile

        self._spool = tempfile.TemporaryFile()  # noqa: SIM115 (as long as the source)
        weakref.finalize(self, self._spool.close)
        try:
            shutil.copyfileobj(sys.stdin.buffer, self._spool)
            self._spool.flush()
        except OSError as error:
            raise InputError(f"standard input cannot be read: {error.strerror}") from None
        self.path, self.name, self._rules = Path("standard input"), "standard input", rules
        self._size = self._spool.seek(0, io.SEEK_END)
        self._delimiter = rules.delimiter
        self.decimal = "," if rules.decimal == "," else "."

    def _open(self) -> Any:
        return pa.PythonFile(io.BufferedReader(_Again(self._spool, self._size), _PEEK), mode="r")

    def fingerprint(self) -> str:
        """Return a digest of all that came."""
        digest = start_digest()
        with io.BufferedReader(_Again(self._spool, self._size), _PEEK) as whole:
            while part := whole.read(_BLOCK):
                digest.update(part)
        return digest.hexdigest()

    def __reduce__(self) -> Any:
        raise InputError("standard input cannot be read on a cluster; name files")


class _ZippedFile(io.RawIOBase):
    """The only file of a ZIP archive; damage met while it is read is an `OSError`."""

    def __init__(self, raw: Any, name: str) -> None:
        import zipfile  # which few files need
        import zlib

        self._damages = (zipfile.BadZipFile, zlib.error, EOFError)
        try:
            archive = zipfile.ZipFile(raw)
            inside = [name for name in archive.namelist() if not name.endswith("/")]
            inside = [name for name in inside if not name.startswith("__MACOSX/")]
            if len(inside) != 1 or not inside[0].lower().endswith(_ZIPPED):
                listed = ", ".join(inside[:5]) + (", ..." if len(inside) > 5 else "")
                raise InputError(
                    f"{name}: an archive is read that holds one CSV file; it holds "
                    f"{listed or 'no file'}; unpack it first"
                )
            self._file = archive.open(inside[0])
        except (zipfile.BadZipFile, RuntimeError, NotImplementedError) as error:
            raise InputError(f"{name}: cannot be read: {error}") from None

    def readable(self) -> bool:
        """Return True: this is all that it does."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer and return how many bytes there were."""
        try:
            part = self._file.read(len(buffer))
        except self._damages as error:
            raise OSError(str(error)) from None
        buffer[: len(part)] = part
        return len(part)


class _Again(io.RawIOBase):
    """A reader of a file that others read as well, with a place of its own."""

    def __init__(self, file: Any, size: int) -> None:
        self._file, self._size, self._at = file, size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        begin = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        self._at = begin + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        with _TURN:
            self._file.seek(self._at)
            count: int = self._file.readinto(buffer)
        self._at += count
        return count


_TURN = threading.Lock()  # of those that move the one place of the file


def _packing(path: Path) -> str | None:
    return {".gz": "gzip", ".zst": "zstd", ".bz2": "bz2"}.get(path.suffix.lower())
