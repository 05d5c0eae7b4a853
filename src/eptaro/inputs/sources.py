"""`Source`: where transactions come from, a file, a frame or a query."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, TypeVar

import numpy as np
import pyarrow as pa

from eptaro.core.expressions.tree import Node, unknown_column
from eptaro.core.kernels.parallel import as_contiguous, is_in_turn, parallel_for
from eptaro.core.kernels.reading import min_max
from eptaro.digest import digest_of, start_digest
from eptaro.errors import InputError, unknown
from eptaro.inputs import arrow_compute as pc
from eptaro.record import Record, record

if TYPE_CHECKING:
    from concurrent.futures import Future

    from eptaro.core.expressions.parser import Formulas


Item = TypeVar("Item")
_END = object()


def prefetch(
    items: Iterator[Item], small: Callable[[Item], bool] = lambda _: False
) -> Iterator[Item]:
    """Yield the items of an iterator that runs in a thread, one item ahead.

    For a `small` item that is the only one no thread is started. An error of the iterator is raised
    where its item would have come.
    """
    if is_in_turn():
        yield from items
        return
    end: Any = _END
    item = next(items, end)
    if item is not _END and small(item):
        yield item
        item = next(items, end)
    if item is _END:
        return
    from concurrent.futures import ThreadPoolExecutor  # it brings logging: not at the start

    worker = ThreadPoolExecutor(1, thread_name_prefix="ahead")
    try:
        while item is not _END:
            coming: Future[Any] = worker.submit(next, items, _END)
            yield item
            item = coming.result()
    finally:
        worker.shutdown(wait=False, cancel_futures=True)


_ROWS, _BYTES = 1 << 19, 1 << 26  # from which on a table is large


def in_large_pieces(pieces: Iterator[pa.Table | SkippedRows]) -> Iterator[pa.Table | SkippedRows]:
    """Yield the tables in their order, small ones joined into large ones, since each table costs
    some time however few rows it has. Tables of different columns or types are not joined, nor
    those with skipped rows between them.
    """
    pending: list[pa.Table] = []
    rows = size = 0
    for piece in pieces:
        types = None if isinstance(piece, SkippedRows) else piece.schema
        if pending and types != pending[0].schema:
            yield pa.concat_tables(pending)
            pending, rows, size = [], 0, 0
        if isinstance(piece, SkippedRows):
            yield piece
            continue
        pending.append(piece)
        rows, size = rows + piece.num_rows, size + piece.nbytes
        if rows >= _ROWS or size >= _BYTES:
            yield pa.concat_tables(pending)
            pending, rows, size = [], 0, 0
    if pending:
        yield pa.concat_tables(pending)


_NUMBER = {mark: rf"^\s*[-+]?(\d+[{mark}]?\d*|[{mark}]\d+)([eE][-+]?\d+)?\s*$" for mark in ".,"}


@record
class ColumnRequest(Record):
    """The columns that a fold needs, by what they are needed for.

    With `plain_days`, a source may return dates as days where they are days in ISO 8601.
    """

    date: str
    groups: list[str] = field(default_factory=list)
    numbers: list[str] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    plain_days: bool = False

    @property
    def names(self) -> list[str]:
        """All of them, each once."""
        return list(dict.fromkeys([self.date, *self.groups, *self.numbers, *self.others]))


@record
class SkippedRows(Record):
    """Rows that were not read, as none of them meets a condition, and the days that they span."""

    rows: int
    first: int
    last: int


class Source(ABC):
    """Transactions that can be read by column, in batches of rows.

    `of_text` says that numbers are written out, so that decimals are exact; `share` is how
    much of the input has been read, where that is known.
    """

    name: str
    of_text = False
    undecided = False  # whether columns of text have no type yet; the whole column decides
    has_rules = False  # whether rules say how numbers in text are written
    decimal: Literal[".", ","] = "."  # the mark that is usual in its texts
    share: float | None = None
    beside: frozenset[str] = frozenset()  # columns of other tables, of which `column` has all

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided of its columns, known when it has been read."""
        return ()

    @property
    def blanked(self) -> Mapping[str, int]:
        """How many values of each column became blank by a rule, once it has been read."""
        return {}

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of all inputs that it reads."""
        return (self.name,)

    @abstractmethod
    def names(self) -> list[str]:
        """Return the names of all columns."""

    @abstractmethod
    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, some rows at a time.

        Raises `InputError` when one is missing or the input cannot be read.
        """

    def pieces(self, request: ColumnRequest, where: Node) -> Iterator[pa.Table | SkippedRows]:
        """Yield the wanted columns, but for rows of which it is known that none meets a condition
        and that all have a day.
        """
        return self.batches(request)

    @abstractmethod
    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns as they are, some rows at a time."""

    def are_numbers(self, texts: Any) -> Any:
        """Return which texts are numbers as they are, null where there is none."""
        return pc.match_substring_regex(texts, _NUMBER[self.decimal])

    def settles_numbers(self, name: str, texts: Any) -> bool:
        """Return whether rules read all of a column's different texts as numbers."""
        return False

    def as_numbers(self, column: pa.ChunkedArray, origin: Any, name: str) -> pa.ChunkedArray:
        """Return a column of text as numbers, as far as these are plain; the reader of numbers says
        which is none.
        """
        trimmed = pc.utf8_trim_whitespace(column.cast(pa.string()))
        blanked = pc.if_else(pc.equal(trimmed, ""), None, trimmed)
        if not pc.all(self.are_numbers(blanked)).as_py() and len(blanked.drop_null()):
            return column
        plain = pc.replace_substring(blanked, ",", ".") if self.decimal == "," else blanked
        return plain.cast(pa.float64())

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written; a source of text says how."""
        raise TypeError(f"{self.name} holds no text of numbers")

    def row_number(self, place: int) -> int:
        """Return the number from 1 that the row at a place among those handed on has in the input.

        It is the place's successor unless rows are left out.
        """
        return place + 1

    def column(self, name: str) -> pa.ChunkedArray:
        """Return one column of the whole input, text as text."""
        parts = [table[name] for table in self.batches(ColumnRequest(name))]
        if not parts:
            return pa.chunked_array([], pa.string())
        if len({part.type for part in parts}) > 1:
            parts = [part.cast(pa.string()) for part in parts]
        return pa.chunked_array([c for part in parts for c in part.chunks], parts[0].type)

    @abstractmethod
    def fingerprint(self) -> str:
        """Return what distinguishes this input from others, to notice rows added twice."""


def check_columns(required: Iterable[str], present: Iterable[str], source: str) -> None:
    """Raise `InputError` for the first wanted column that is missing or there twice."""
    names = list(present)
    counts = Counter(names)
    for name in required:
        if name not in counts:
            raise InputError(f"{source}: {unknown('column', name, names)}{_hint(names)}")
        if counts[name] > 1:
            raise InputError(f"{source}: two columns are called {name!r}; rename one of them")


def check_names(formulas: Formulas, source: Source) -> None:
    """Raise `InputError` for the first name in formulas that is not a column of a source."""
    if names := formulas.names:
        columns = source.names()
        for name in names:
            if name not in columns:
                raise InputError(f"{source.name}: {unknown_column(name, columns)}{_hint(columns)}")


def _hint(names: list[str]) -> str:
    """Return a hint where a single column name looks like several that another mark separates."""
    for mark in (";", "\t", "|"):
        if len(names) == 1 and mark in names[0]:
            return f" (the columns seem to be separated by {mark!r}; set the delimiter)"
    return ""


_SAMPLED = 4096  # rows at each end of a pandas frame that its fingerprint is made of
_ENDS = 8192  # and of an Arrow table


_NAT, _INT32 = np.iinfo(np.int64).min, np.iinfo(np.int32)  # the first is a blank time of NumPy


class FrameSource(Source):
    """A frame that speaks the Arrow C stream protocol, or a mapping of names to arrays.

    Columns of a pandas frame are read when they are asked for: texts take their time.
    """

    name = "the table given"

    def __init__(self, frame: Any) -> None:
        frame = _as_columns(frame)
        self._unusable: dict[str, str] = {}
        self._pandas: Any = None
        if hasattr(frame, "iloc") and hasattr(frame, "columns"):
            self._pandas, self._arrays = frame, dict[str, pa.ChunkedArray]()
            self._names = [str(name) for name in frame.columns]
            return
        if hasattr(frame, "__arrow_c_stream__"):
            table = frame if isinstance(frame, pa.Table) else pa.table(frame)
            self._table = _plain_text(table)
        elif isinstance(frame, Mapping):
            self._table = _plain_text(_from_mapping(frame))
        else:
            raise InputError(
                f"{type(frame).__name__} is neither a frame that speaks the Arrow C stream "
                f"protocol, nor a mapping of column names to arrays, nor a list of dicts; for a "
                f"file use Daybook.read"
            )
        self._names = list(self._table.column_names)

    @cached_property
    def _table(self) -> pa.Table:
        """All columns; those of pandas that Arrow cannot hold, or whose name another has as well,
        are blank, and an error where they are used.
        """
        return self._select(list(dict.fromkeys(self._names)))

    def _select(self, names: list[str]) -> pa.Table:
        if self._pandas is None:
            return self._table.select(names)
        for name in names:
            if name not in self._arrays:
                self._arrays[name] = self._read(name)
        return _plain_text(pa.table({name: self._arrays[name] for name in names}))

    def _read(self, name: str) -> pa.ChunkedArray:
        column = self._pandas.iloc[:, [self._names.index(name)]]
        try:
            return _of_series(column)
        except (pa.ArrowException, ValueError, TypeError, OverflowError) as error:
            self._unusable[name] = _why_unusable(column.iloc[:, 0], error)
            return pa.chunked_array([pa.nulls(len(self._pandas))])

    def names(self) -> list[str]:
        """Return the names of all columns."""
        return list(self._names)

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns at once."""
        check_columns(request.names, self.names(), self.name)
        table = self._select(request.names)
        for name in request.names:
            if name in self._unusable:
                reason = self._unusable[name]
                raise InputError(f"{self.name}: column {name!r} cannot be used: {reason}")
        if table.num_rows:
            yield table

    def whole(self) -> Iterator[pa.Table]:
        """Yield the frame."""
        yield self._table

    def rows(self) -> list[dict[str, Any]]:
        """Return the rows as mappings; only for small tables."""
        try:
            records: list[dict[str, Any]] = self._table.to_pylist()
        except (OverflowError, ValueError) as error:
            raise InputError(f"{self.name}: a value cannot be read: {error}") from None
        return records

    def fingerprint(self) -> str:
        """Return a digest of the size and of samples of every column's bytes."""
        if self._pandas is None or len(self._pandas) <= 2 * _SAMPLED:
            return _digest_of(self._table)
        ends = (self._pandas.iloc[:_SAMPLED], self._pandas.iloc[-_SAMPLED:])
        text = f"{len(self._pandas)} {' '.join(_digest_of(_frame_table(part)) for part in ends)}"
        return digest_of(text)


def _frame_table(frame: Any) -> pa.Table:
    try:
        return pa.table(frame)
    except (pa.ArrowException, ValueError, TypeError, OverflowError):  # of a column or two
        return FrameSource(frame)._table


def _digest_of(table: pa.Table) -> str:
    """Return a digest of a table's length and of every column's values in its first and last rows.

    They are taken, as two slices of one table share the buffers of all its rows.
    """
    digest = start_digest(str(table.num_rows))
    for part in (table.slice(0, _ENDS), table.slice(max(table.num_rows - _ENDS, _ENDS))):
        for column in part.take(pa.array(np.arange(part.num_rows))).columns:
            for chunk in column.chunks:
                for buffer in chunk.buffers():
                    if buffer is not None:
                        digest.update(memoryview(buffer))
    return digest.hexdigest()


class TableSource(FrameSource):
    """A table, or rows, that were read from somewhere, under the name of that."""

    def __init__(
        self,
        table: pa.Table | list[dict[str, Any]],
        name: str,
        *,
        of_text: bool = False,
        unusable: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(table)
        self.name, self.of_text = name, of_text
        self._unusable.update(unusable or {})

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column's numbers as text."""
        return self._table[name].cast(pa.string())


def plain_text(table: pa.Table) -> pa.Table:
    """Return a table as it was read from a file, text plain.

    Raises `pyarrow.ArrowInvalid` where a damaged file holds codes that represent nothing, or
    text that lies outside of it: these would end in another group's total, or worse.
    """
    table.validate(full=True)
    return _plain_text(table)


def _plain_text(table: pa.Table) -> pa.Table:
    """Return the table with views of text, which few functions take, as plain text; and without
    dictionaries that hold a blank among their words.
    """
    for place, field_ in enumerate(table.schema):
        column, plain = table.column(place), pa.large_string()
        coded = pa.types.is_dictionary(column.type)
        if coded and any(chunk.dictionary.null_count for chunk in column.chunks):
            column, coded = column.cast(column.type.value_type), False
        if pa.types.is_string_view(column.type.value_type if coded else column.type):
            column = column.cast(pa.dictionary(pa.int32(), plain) if coded else plain)
        if column.type != field_.type:
            table = table.set_column(place, field_.with_type(column.type), column)
    return table


def _as_columns(rows: Any) -> Any:
    """Return what has columns of what is given: a list of dicts, a lazy frame, a pandas Series, or
    a pandas frame whose index holds values.

    A Series and its index are called as they call themselves, otherwise `value` and `date`.
    """
    if isinstance(rows, list) and rows and all(isinstance(row, Mapping) for row in rows):
        names = dict.fromkeys(name for row in rows for name in row)
        return {name: [row.get(name) for row in rows] for name in names}
    if hasattr(rows, "collect_schema") and hasattr(rows, "collect"):
        return rows.collect()
    if hasattr(rows, "iloc") and hasattr(rows, "index"):
        return _of_pandas(rows)
    return rows


def _of_pandas(pandas_frame: Any) -> Any:
    """Return a pandas frame with its index as a column where that has a name or holds dates, and
    its periods as texts such as 2025-01 and 2025Q1, which say what they are.
    """
    if not hasattr(pandas_frame, "columns"):
        frame = pandas_frame.rename_axis(pandas_frame.index.name or "date")
        return _of_pandas(frame.to_frame(str(pandas_frame.name or "value")))
    index = pandas_frame.index
    dated = type(index).__name__ in ("DatetimeIndex", "PeriodIndex")
    if dated and index.name is None and "date" not in pandas_frame.columns:
        pandas_frame = pandas_frame.rename_axis("date")
    index_names = [name for name in pandas_frame.index.names if name is not None]
    if index_names and not {*index_names} & {*pandas_frame.columns}:
        pandas_frame = pandas_frame.reset_index()
    periods = [name for name, kind in pandas_frame.dtypes.items() if "period" in str(kind)]
    return (
        pandas_frame.assign(**{name: pandas_frame[name].astype(str) for name in periods})
        if periods
        else pandas_frame
    )


def _native_array(values: Any) -> Any:
    """Return an array in the machine's order of bytes, hours and minutes as seconds."""
    if not isinstance(values, np.ndarray):
        return values
    if values.dtype.kind == "M" and np.datetime_data(values.dtype)[0] in ("h", "m"):
        values = values.astype("datetime64[s]")
    return values if values.dtype.isnative else values.astype(values.dtype.newbyteorder("="))


def _of_series(column: Any) -> pa.ChunkedArray:
    """Return the one column of a pandas frame."""
    values = column.iloc[:, 0]
    if isinstance(values.dtype, np.dtype) and values.dtype.kind == "M":
        return pa.chunked_array([_array_of(_native_array(values.to_numpy()))])
    return pa.table(column).column(0)


def _array_of(values: Any) -> pa.Array:
    """Return values as an array. Days and time stamps are what they are in NumPy, 64 bits each:
    `pa.array` would look at one after the other, which takes many times as long.
    """
    timed = isinstance(values, np.ndarray) and values.dtype.kind == "M" and values.ndim == 1
    if not timed or not len(values):
        return pa.array(values)
    unit, count = np.datetime_data(values.dtype)
    numbers = as_contiguous(values).view(np.int64)
    if count == 1 and unit in ("s", "ms", "us", "ns"):
        mask = np.isnat(values) if min_max(numbers)[0] == _NAT else None
        return pa.array(numbers, mask=mask).view(pa.timestamp(unit))
    if count == 1 and unit == "D":
        least, most = min_max(numbers)
        if _INT32.min <= least and most <= _INT32.max:  # and so none is blank
            days = np.empty(len(numbers), np.int32)
            parallel_for(
                lambda of: np.copyto(days[of], numbers[of], casting="unsafe"), len(numbers)
            )
            return pa.array(days).view(pa.date32())
    return pa.array(values)


def _why_unusable(values: Iterable[Any], error: Exception) -> str:
    """Return why values cannot be a column."""
    blanks = ("None", "nan", "NaT", "<NA>")
    kinds = sorted({type(value).__name__ for value in values if str(value) not in blanks})
    if len(kinds) > 1:
        return f"it holds values of several types ({', '.join(kinds[:5])}); make them of one type"
    return " ".join(str(error.args[0] if error.args else error).split())


def _from_mapping(frame: Mapping[str, Any]) -> pa.Table:
    arrays = {}
    for name, values in frame.items():
        if isinstance(values, str) or not getattr(values, "ndim", isinstance(values, Iterable)):
            raise InputError(
                f"the table given: column {name!r} is {values!r}, not a list of values"
            )
        try:
            arrays[str(name)] = _array_of(_native_array(values))
        except (pa.ArrowException, UnicodeError, OverflowError) as error:
            why = _why_unusable(values, error)
            raise InputError(f"the table given: column {name!r} cannot be used: {why}") from None
    lengths = {name: len(values) for name, values in arrays.items()}
    if len(set(lengths.values())) > 1:
        raise InputError(f"the table given: its columns differ in length: {lengths}")
    try:
        return pa.table(arrays)
    except (pa.ArrowException, UnicodeError) as error:
        raise InputError(f"the table given: its columns cannot be used: {error}") from None


class ManyFiles(Source):
    """Several files of one kind, one after the other."""

    def __init__(self, parts: list[Source]) -> None:
        self.parts = parts
        self.name = f"{parts[0].name} and {len(parts) - 1} more"
        self.of_text, self.decimal = parts[0].of_text, parts[0].decimal
        self.undecided = any(part.undecided for part in parts)

    @property
    def blanked(self) -> Mapping[str, int]:
        """How many values of each column became blank by a rule, once it has been read."""
        return {}

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of all files."""
        return tuple(name for part in self.parts for name in part.inputs)

    def names(self) -> list[str]:
        """Return the names of the first file's columns."""
        return self.parts[0].names()

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns of every file."""
        return self._in_turn(part.batches(request) for part in self.parts)

    def pieces(self, request: ColumnRequest, where: Node) -> Iterator[pa.Table | SkippedRows]:
        """Yield the wanted columns of every file, but for rows that a file knows not to count."""
        return self._in_turn(part.pieces(request, where) for part in self.parts)

    def _in_turn(self, of_parts: Iterable[Iterator[Item]]) -> Iterator[Item]:
        for number, (part, pieces) in enumerate(zip(self.parts, of_parts, strict=True)):
            for piece in pieces:
                self.share = (number + (part.share or 0.0)) / len(self.parts)
                yield piece

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns of every file."""
        for part in self.parts:
            yield from part.whole()

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        columns = [part.raw_text(name) for part in self.parts]
        return pa.chunked_array([c for column in columns for c in column.chunks], pa.string())

    def fingerprint(self) -> str:
        """Return a digest of all files, whatever their order."""
        fingerprints = " ".join(sorted(part.fingerprint() for part in self.parts))
        return digest_of(fingerprints)
