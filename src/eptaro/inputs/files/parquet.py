"""`ParquetFile`: Parquet, read a million rows at a time."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import ordinal
from eptaro.core.expressions.pruning import ColumnStats, bound_of, may_match
from eptaro.core.expressions.tree import Node, names_in
from eptaro.digest import digest_of_file, file_digest
from eptaro.errors import InputError
from eptaro.inputs.files.chunks import unreadable
from eptaro.inputs.sources import ColumnRequest, SkippedRows, Source, check_columns, plain_text
from eptaro.paths import StoragePath
from eptaro.rules import FileRules
from eptaro.version import BOOK_MARK


def prune_row_groups(
    file: Any, where: Node, date: str, stated: Mapping[str, Any]
) -> dict[int, SkippedRows]:
    """Return the row groups none of whose rows meets a condition, and all of whose dates are
    known to be days; `stated` are values that all rows have.
    """
    schema = file.schema_arrow
    kind = schema.field(date).type if date in schema.names else pa.null()
    if not (pa.types.is_date32(kind) or (pa.types.is_timestamp(kind) and kind.tz is None)):
        return {}
    names = [name for name in names_in(where) if name in schema.names]
    same = {
        name: ColumnStats(bound_of(value), bound_of(value), value is None, value is None)
        for name, value in stated.items()
        if name not in schema.names
    }
    skipped = {}
    for number in range(file.num_row_groups):
        group = file.metadata.row_group(number)
        stats = _statistics_of(group, {*names, date})
        day = stats.get(date)
        if day is None or day.some_blank:
            continue
        if not isinstance(day.least, dt.date) or not isinstance(day.most, dt.date):
            continue
        if not may_match(where, same | {name: stats[name] for name in names if name in stats}):
            ends = ordinal(str(day.least)), ordinal(str(day.most))
            skipped[number] = SkippedRows(group.num_rows, *ends)
    return skipped


def _statistics_of(group: Any, names: Iterable[str]) -> dict[str, ColumnStats]:
    """Return what the statistics of a row group say of some columns."""
    columns = (group.column(at) for at in range(group.num_columns))
    own = {column.path_in_schema: column.statistics for column in columns}
    stats = {}
    for name in names:
        words = own.get(name)
        if words is None or not words.has_null_count:
            continue
        some, every = words.null_count > 0, words.null_count == group.num_rows
        if words.has_min_max:
            least, most = bound_of(words.min), bound_of(words.max)
            some = some or isinstance(least, float)  # of NaN, which is blank, they have nothing
            stats[name] = ColumnStats(least, most, some, every)
        elif every:
            stats[name] = ColumnStats(None, None, True, True)
    return stats


_BATCH = 1 << 20


class ParquetFile(Source):
    """A Parquet file, read a million rows at a time; with `groups` some row groups alone.

    `stated` are columns of one value each, which the names of its folders state.
    """

    def __init__(
        self,
        path: Path,
        rules: FileRules,
        groups: Sequence[int] | None = None,
        stated: Mapping[str, Any] | None = None,
        place: StoragePath | None = None,
    ) -> None:
        self.path, self.name, self._groups, self._place = path, str(place or path), groups, place
        self._stated = {} if stated is None else dict(stated)
        del rules

    def _open(self, coded: Sequence[str] = ()) -> Any:
        from pyarrow import parquet

        try:
            path = self.path if self._place is None else self._place.open_input()
            file = parquet.ParquetFile(path, read_dictionary=list(coded))
        except (pa.ArrowException, OSError, UnicodeError) as error:
            raise unreadable(self.name, error) from None
        if BOOK_MARK in (file.metadata.metadata or {}):
            raise InputError(
                f"{self.name}: belongs to a book, whose rows are folded already; give the file of "
                f"its rows, or ask the book"
            )
        return file

    def names(self) -> list[str]:
        """Return the names of all columns."""
        with self._open() as file:
            own = list(file.schema_arrow.names)
        return [*own, *(name for name in self._stated if name not in own)]

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns; text to group by is read as codes."""
        pieces = self._read(request, None)
        return (piece for piece in pieces if isinstance(piece, pa.Table))

    def pieces(self, request: ColumnRequest, where: Node) -> Iterator[pa.Table | SkippedRows]:
        """Yield the wanted columns, but for row groups whose statistics say that none of their
        rows meets a condition.
        """
        return self._read(request, where)

    def _read(self, request: ColumnRequest, where: Node | None) -> Iterator[pa.Table | SkippedRows]:
        with self._open() as file:
            schema, rows = file.schema_arrow, file.metadata.num_rows
        own = [name for name in request.names if name in schema.names or name not in self._stated]
        check_columns(own, schema.names, self.name)
        coded = [
            name
            for name in dict.fromkeys([*request.groups, *request.others])
            if name in own and pa.types.is_string(schema.field(name).type)
        ]
        rows_before = 0
        with self._open(coded) as file:
            unread = (
                {} if where is None else prune_row_groups(file, where, request.date, self._stated)
            )
            if unread:  # a wrong condition is an error for no rows as well
                yield self._add_stated(schema.empty_table().select(own)).select(request.names)
            for piece in _row_groups(file, own, self._groups, unread):
                rows_before += piece.rows if isinstance(piece, SkippedRows) else piece.num_rows
                self.share = rows_before / max(rows, 1)
                if isinstance(piece, SkippedRows):
                    yield piece
                else:
                    yield plain_text(self._add_stated(piece).select(request.names))

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns, some rows at a time."""
        with self._open() as file:
            for batch in file.iter_batches(_BATCH):
                yield plain_text(self._add_stated(pa.Table.from_batches([batch])))

    def _add_stated(self, table: pa.Table) -> pa.Table:
        for name, value in self._stated.items():
            if name not in table.column_names:
                words = pa.array([value]).dictionary_encode()
                codes = pa.array(np.zeros(table.num_rows, np.int32))
                table = table.append_column(
                    name, pa.DictionaryArray.from_arrays(codes, words.dictionary)
                )
        return table

    def fingerprint(self) -> str:
        """Return a digest of the file, and which part of it this is."""
        part = "" if self._groups is None else f" {self._groups[0]}..{self._groups[-1]}"
        if self._place is None:
            return file_digest(self.path) + part
        with self._place.open_input() as file:
            return digest_of_file(file, self._place.size()) + part

    def parts(self, rows: int) -> list[ParquetFile]:
        """Return the file in parts of at least so many rows, row groups kept whole."""
        parts: list[ParquetFile] = []
        with self._open() as file:
            sizes = [file.metadata.row_group(i).num_rows for i in range(file.num_row_groups)]
        start, pending_rows = 0, 0
        for number, size in enumerate(sizes):
            pending_rows += size
            if pending_rows >= rows or number == len(sizes) - 1:
                groups = range(start, number + 1)
                part = ParquetFile(self.path, FileRules(), groups, self._stated, self._place)
                parts.append(part)
                start, pending_rows = number + 1, 0
        return parts


def _row_groups(
    file: Any,
    columns: list[str],
    row_groups: Sequence[int] | None,
    unread: Mapping[int, SkippedRows],
) -> Iterator[pa.Table | SkippedRows]:
    """Yield a Parquet file's row groups, or the chosen ones, large ones in batches."""
    for number in range(file.num_row_groups) if row_groups is None else row_groups:
        if number in unread:
            yield unread[number]
        elif file.metadata.row_group(number).num_rows > 2 * _BATCH:
            for batch in file.iter_batches(_BATCH, columns=columns, row_groups=[number]):
                yield pa.Table.from_batches([batch])
        else:
            yield file.read_row_group(number, columns=columns)


def parquet_folder(folder: StoragePath, rules: FileRules) -> list[ParquetFile]:
    """Return the Parquet files of a folder and the folders in it, in the order of their paths.

    Folders called `NAME=VALUE` add a column to the rows of the files in them. Files and
    folders whose names start with `_` or `.` are left out.
    """
    from pyarrow import dataset

    files = [
        file.place.path
        for file in folder.within()
        if file.inside.endswith(".parquet")
        and not any(part[0] in "_." for part in file.inside.split("/"))
    ]
    if not files:
        raise InputError(f"{folder}: is a folder without Parquet files")
    _open_inside(folder, files[0], rules).names()  # an error that names the file, not the folder
    try:
        tree = dataset.dataset(
            files,
            format="parquet",
            filesystem=folder.system,
            partitioning="hive",
            partition_base_dir=folder.path,
        )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(folder, error) from None
    return [
        _open_inside(
            folder, part.path, rules, dataset.get_partition_keys(part.partition_expression)
        )
        for part in tree.get_fragments()
    ]


def _open_inside(
    folder: StoragePath, path: str, rules: FileRules, stated: Mapping[str, Any] | None = None
) -> ParquetFile:
    inside = path[len(folder.path) + 1 :]
    local = folder.local
    if local is not None:
        return ParquetFile(Path(folder.name) / inside, rules, stated=stated)
    return ParquetFile(Path(path), rules, stated=stated, place=folder / inside)
