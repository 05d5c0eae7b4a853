"""The files of one shard of a book's folder, read."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.span import Span
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.planes import ROWS
from eptaro.core.folds.sums import Sum
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column
from eptaro.inputs.columns.codes import read_groups
from eptaro.places import Place
from eptaro.storage.damage import damage
from eptaro.storage.folder.celltables import CellTable, joined_cells
from eptaro.storage.folder.files import read_file
from eptaro.storage.folder.manifest import Manifest, Stored

VALUE = "value"


@dataclass(frozen=True)
class ShardFiles:
    """One shard of a folder, as a manifest has it."""

    folder: Place
    manifest: Manifest
    shard: int
    token: str = ""  # of the change that writes new ones

    def _rows(self, files: list[Stored]) -> pa.Table:
        tables = [read_file(self.folder, file.path, file.digest) for file in files]
        return pa.concat_tables(tables, promote_options="default")  # a blank column is of any kind

    @cached_property
    def groups(self) -> dict[str, Coded]:
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
        """Return what the codes of a column stand for."""
        files = self.manifest.of(self.shard, "values", column)
        words = self._rows(files)[VALUE].to_pylist() if files else []
        return Column.text(column, np.array([*words, None], object)[:-1])

    def tables(self, days: Span | None = None) -> Iterator[CellTable]:
        """Yield the tables of cells, those alone that have some of the days named."""
        for file in self.manifest.of(self.shard, "cells"):
            span = file.span
            if days is None or (span.lo <= days.hi and days.lo <= span.hi):
                yield CellTable.read(self.folder, file.path, file.digest)

    def folded(self) -> Folded | None:
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
            distinct = {name: self.values(name) for name in self.manifest.counted}
            grain = self.manifest.about["grain"]
            return Folded(groups, cells, entries(cells), (), distinct=distinct, grain=grain)


def entries(cells: Cells) -> int:
    """Return how many transactions are in all cells."""
    rows = cells.tallies[ROWS]
    assert isinstance(rows, Sum)
    return exact.total(rows.whole)
