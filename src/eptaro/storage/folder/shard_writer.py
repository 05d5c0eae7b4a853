"""Writing new cells of one shard; files that do not change stay."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
import pyarrow as pa

from eptaro.core.aggregation.encoding import GroupEncoder
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import renumber_distinct
from eptaro.core.calendars.days import Days, Ints, as_date
from eptaro.core.calendars.span import Span
from eptaro.errors import InputError
from eptaro.outputs.arrow import to_array
from eptaro.record import Record, record
from eptaro.storage.folder.files import write_file, write_table
from eptaro.storage.folder.manifest import FileEntry, Role
from eptaro.storage.folder.shardfiles import VALUE, CellTable, ShardFiles, added_cells
from eptaro.storage.layout import damage


@record
class ShardChange(Record):
    """The files of a shard after a change, how many rows were taken out, and new groups."""

    files: list[FileEntry]
    removed: int = 0
    groups: int = 0


def rewrite_shard(
    shard: ShardFiles, new: Folded | None, out: Span | None, newest: int
) -> ShardChange:
    """Return the files of a shard with the cells of `new`, and without those of the days `out`.

    Cells of a year are in one file, those of the year `newest` in one for each month; of these
    only what changes is written. Raises `InputError` where a file is missing or damaged.
    """
    with damage(shard.folder):
        before = [file for file in shard.manifest.files if file.shard == shard.shard]
        files = [file for file in before if file.role != "cells"]
        cells, added, groups = None, list[FileEntry](), 0
        if new is not None:
            target, count, fresh = _number_groups(shard, new)
            groups = count - shard.count if shard.manifest.files or shard.manifest.by else 0
            if fresh is not None:
                added.append(_write_rows(shard, "groups", fresh))
            coded = _with_values(shard, new, added)
            as_they_are = count == len(target) and np.array_equal(target, np.arange(count))
            own = coded.cells if as_they_are else coded.cells.regroup(target, count)
            cells = CellTable.of(own)
        files_of_cells, removed = _cells(shard, cells, out, newest)
        return ShardChange([*files, *added, *files_of_cells], removed, max(groups, 0))


def _number_groups(shard: ShardFiles, new: Folded) -> tuple[Ints, int, pa.Table | None]:
    """Return the number in the shard of each new group, how many there are then, and a table of
    those that it did not have.
    """
    if not shard.manifest.by:
        return np.zeros(1, np.int64), 1, None
    before = shard.count if shard.groups else 0
    combiner = GroupEncoder(shard.manifest.by)
    numbers = combiner.number(shard.groups) if before else None
    met = combiner.number(new.groups.coded)
    assert met is not None
    target = np.full(len(combiner), -1, np.int64)
    if numbers is not None:
        target[numbers] = np.arange(before)
    fresh = np.flatnonzero(target[met] < 0)
    target[met[fresh]] = before + np.arange(len(fresh))
    if not len(fresh):
        return target[met], before, None
    arrays = {column.name: to_array(column) for column in new.groups.columns(fresh)}
    for name, array in arrays.items():
        if array.null_count == len(array):  # blanks alone are of whatever kind others will be
            arrays[name] = pa.nulls(len(array))
    return target[met], before + len(fresh), pa.table(arrays)


def _with_values(shard: ShardFiles, new: Folded, added: list[FileEntry]) -> Folded:
    """Return new cells whose codes are those of the shard; values that it lacks are written."""
    if not new.distinct:
        return new
    has = {name: shard.values(name) for name in new.distinct}
    aligned = renumber_distinct(replace(new, distinct=has), new)
    for name, values in aligned.distinct.items():
        words = values.to_list()[len(has[name]) :]
        # A shard whose values are all blank has a file too: a missing one would be damage.
        if words or not shard.manifest.of(shard.shard, "values", name):
            table = pa.table({VALUE: pa.array([*map(str, words)], pa.string())})
            added.append(_write_rows(shard, "values", table, name))
    return aligned


def _cells(
    shard: ShardFiles, new: CellTable | None, out: Span | None, newest: int
) -> tuple[list[FileEntry], int]:
    """Return the files of cells after a change, and how many rows were taken out."""
    parts: dict[int, CellTable] = {}
    if new is not None:
        parts = dict(new.split_by_name(slice_of(new.days, newest)))
    olds: dict[int, list[FileEntry]] = {}
    for file in shard.manifest.of(shard.shard, "cells"):
        name = int(slice_of(np.array([file.span.lo]), newest)[0])
        olds.setdefault(name, []).append(file)
    files_kept, removed = list[FileEntry](), 0
    for name in sorted({*olds, *parts}):
        old, some = olds.get(name, []), parts.get(name)
        if some is None and len(old) == 1 and not meet(old[0].span, out):
            files_kept += old
            continue
        for file in old:
            table = CellTable.read(shard.folder, file.path, file.digest)
            remaining = table.without(out)
            removed += table.entries - remaining.entries
            if some is None or not len(some):
                some = remaining
            elif len(remaining):
                count = int(max(np.asarray(t.table["group"]).max() for t in (remaining, some))) + 1
                some = added_cells(remaining, some, count)
        if some is not None and len(some):
            files_kept.append(_write_cells(shard, name, some))
    return files_kept, removed


def meet(one: Span, other: Span | None) -> bool:
    """Return whether two spans share a day."""
    return other is not None and one.lo <= other.hi and other.lo <= one.hi


def slice_of(days: Days | Ints, newest: int) -> Ints:
    """Return the name of the file for each day: its year, or, in the newest, year and month.

    >>> from eptaro.core.calendars.days import ordinal
    >>> slice_of(np.array([ordinal("2024-12-31"), ordinal("2025-08-20")]), 2025).tolist()
    [2024, 202508]
    """
    months = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    year, month = np.divmod(months, 12)
    year += 1970
    return np.where(year == newest, year * 100 + month + 1, year)


def year_of(day: int) -> int:
    """Return the civil year of a day."""
    return as_date(day).year


def _write_cells(shard: ShardFiles, name: int, cells: CellTable) -> FileEntry:
    month = f"{name}" if name < 10_000 else f"{name // 100}-{name % 100:02d}"
    days = cells.days
    file = write_file(shard.folder, shard.shard, month, shard.token, cells.write)
    first, last = (str(as_date(int(day))) for day in (days.min(), days.max()))
    return FileEntry(
        *("cells", shard.shard, file.path, len(cells), file.size, first, last), digest=file.digest
    )


def _write_rows(shard: ShardFiles, role: Role, table: pa.Table, column: str = "") -> FileEntry:
    file = write_file(shard.folder, shard.shard, role, shard.token, partial(write_table, table))
    return FileEntry(
        *(role, shard.shard, file.path, table.num_rows, file.size),
        column=column,
        digest=file.digest,
    )


def check_within(new: Span, out: Span, source: str) -> None:
    """Raise `InputError` where new rows lie outside of the days that they replace."""
    if new.lo < out.lo or new.hi > out.hi:
        raise InputError(
            f"{source}: its rows run from {new}, beyond {out}, whose rows they are to replace; "
            f"widen these days, or give a file of them alone"
        )
