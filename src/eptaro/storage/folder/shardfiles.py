"""Reading the files of one shard of a book's folder."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.aggregation.axis import cells_axis
from eptaro.core.aggregation.cells import ROWS, Cells, concatenate_cells
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.aggregation.merge import rows_after
from eptaro.core.aggregation.sums import Sum
from eptaro.core.calendars.days import Days, Ints
from eptaro.core.calendars.span import Span
from eptaro.core.kernels import bigint
from eptaro.core.kernels.factorize import factorize
from eptaro.core.results.column import Column
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files.chunks import to_numpy
from eptaro.paths import StoragePath
from eptaro.record import Record, record
from eptaro.storage.bookfile import occupied_cells, parts_of, tallies_of
from eptaro.storage.folder.files import read_file, write_table
from eptaro.storage.folder.manifest import FileEntry, Manifest
from eptaro.storage.layout import damage, with_metadata
from eptaro.storage.metadata import grain_from_metadata
from eptaro.version import BOOK_MARK

_ROWS = "rows::whole"
_OF_FEW = ("day", "rows:", "filled:")  # columns that hold few different values


@record
class CellTable:
    """Cells as rows of a table: `group`, `day` and the parts of planes; `planes` says of which
    kind these are.
    """

    table: pa.Table
    planes: Sequence[Sequence[Any]]

    @classmethod
    def of(cls, cells: Cells) -> CellTable:
        """Return the occupied ones among some cells."""
        occupied = occupied_cells(cells)
        group, day = (part[occupied].astype(np.int32) for part in cells.axis.cells_of())
        planes, parts = parts_of(cells, occupied)
        columns = {"group": pa.array(group), "day": pa.array(day).cast(pa.date32())}
        return cls(pa.table(columns | parts), planes)

    @classmethod
    def read(cls, folder: StoragePath, path: str, digest: str) -> CellTable:
        """Return what is in a file of a folder."""
        table = read_file(folder, path, digest)
        about = json.loads(table.schema.metadata[BOOK_MARK])
        return cls(table, about["planes"])

    def write(self, sink: Any) -> None:
        """Write the table to an open file."""
        whole = with_metadata(self.table, {"planes": self.planes})
        few = [name for name in self.table.column_names if name.startswith(_OF_FEW)]
        write_table(whole, sink, compression="snappy", use_dictionary=few)

    def __len__(self) -> int:
        return int(self.table.num_rows)

    @property
    def days(self) -> Days:
        """The day ordinal of each row."""
        return to_numpy(self.table["day"].cast(pa.int32()))

    @property
    def entries(self) -> int:
        """How many transactions are in all cells."""
        return int(to_numpy(self.table[_ROWS]).sum())

    def take(self, rows: Ints) -> CellTable:
        """Return some of the rows."""
        return CellTable(self.table.take(pa.array(rows)), self.planes)

    def without(self, days: Span | None) -> CellTable:
        """Return the rows of other days."""
        if days is None:
            return self
        own = self.days
        return self.take(np.flatnonzero((own < days.lo) | (own > days.hi)))

    def split_by_name(self, names: Ints) -> Iterable[tuple[int, CellTable]]:
        """Yield each different name that rows have, and these rows."""
        unique, places = factorize(names, int(names.max()) + 1)
        if len(unique) == 1:
            yield int(unique[0]), self
            return
        order, counts = np.argsort(places.astype(np.int16), kind="stable"), np.bincount(places)
        rows, ends = self.take(order), np.cumsum(counts)
        for name, end, count in zip(unique.tolist(), ends.tolist(), counts.tolist(), strict=True):
            yield name, CellTable(rows.table.slice(end - count, count), self.planes)

    def cells(self, count: int, place: Ints | None = None) -> Cells:
        """Return the cells of `count` groups; `place` is the new number of each group."""
        group = to_numpy(self.table["group"]).astype(np.int64)
        group = group if place is None else place[group]
        axis, cell = cells_axis(group, self.days.astype(np.int64), count)
        return Cells(axis, tallies_of(self.table, self.planes, cell, axis.size))


def joined_cells(tables: Iterable[CellTable], count: int, place: Ints | None = None) -> Cells:
    """Return the cells of several tables with rows; those of one kind are read as one."""
    runs: list[list[CellTable]] = []
    for table in tables:
        if runs and (runs[-1][0].planes, runs[-1][0].table.schema) == (
            table.planes,
            table.table.schema,
        ):
            runs[-1].append(table)
        else:
            runs.append([table])
    parts = []
    for run in runs:
        whole = pa.concat_tables([table.table for table in run])
        cells = CellTable(whole, run[0].planes).cells(count, place)
        cells.check()
        parts.append(cells)
    return concatenate_cells(parts)


def added_cells(old: CellTable, new: CellTable, count: int) -> CellTable:
    """Return the cells of both; the rows of the new come after those of the old."""
    before, after = old.cells(count), new.cells(count)
    return CellTable.of(before.plus(rows_after(after, before)))


VALUE = "value"


@record
class ShardFiles(Record):
    """One shard of a folder, as a manifest has it."""

    folder: StoragePath
    manifest: Manifest
    shard: int
    token: str = ""  # of the change that writes new ones

    def _rows(self, files: list[FileEntry]) -> pa.Table:
        tables = [read_file(self.folder, file.path, file.digest) for file in files]
        return pa.concat_tables(tables, promote_options="default")  # a blank column is of any kind

    @cached_property
    def groups(self) -> dict[str, Categorical]:
        """The group columns, one entry for each group, in the order of their numbers."""
        files = self.manifest.of(self.shard, "groups")
        if not files or not self.manifest.by:
            return {}
        rows = self._rows(files)
        return {name: read_groups(rows[name], name, str(self.folder)) for name in self.manifest.by}

    @property
    def count(self) -> int:
        """How many groups there are."""
        files = self.manifest.of(self.shard, "groups")
        return sum(file.rows for file in files) if self.manifest.by else 1

    def values(self, column: str) -> Column:
        """Return what the codes of a column represent."""
        files = self.manifest.of(self.shard, "values", column)
        words = self._rows(files)[VALUE].to_pylist() if files else []
        return Column.text(column, np.array([*words, None], object)[:-1])

    def tables(self, days: Span | None = None) -> Iterator[CellTable]:
        """Yield the tables of cells, those alone that have some of the days named."""
        for file in self.manifest.of(self.shard, "cells"):
            span = file.span
            if days is None or (span.lo <= days.hi and days.lo <= span.hi):
                yield CellTable.read(self.folder, file.path, file.digest)

    def read(self) -> Folded | None:
        """Return what was folded of the groups of the shard; None where they have no rows.

        Raises `InputError` where a file is missing or damaged.
        """
        with damage(self.folder):
            groups = Groups(self.groups, self.count)
            order = groups.order()
            place = np.empty(groups.count, np.int64)
            place[order] = np.arange(groups.count)
            groups = groups.at(order)
            tables = [table for table in self.tables() if len(table)]
            if not tables:
                return None
            cells = joined_cells(tables, groups.count, place)
            distinct = {name: self.values(name) for name in self.manifest.counted_columns}
            grain = grain_from_metadata(self.manifest.about["grain"])
            return Folded(groups, cells, entries(cells), (), distinct=distinct, grain=grain)


def entries(cells: Cells) -> int:
    """Return how many transactions are in all cells."""
    rows = cells.tallies[ROWS]
    assert isinstance(rows, Sum)
    return bigint.exact_total(rows.whole)
