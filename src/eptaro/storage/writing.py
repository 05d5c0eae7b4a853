"""Books to Parquet files (see `eptaro.storage.layout` for the shape)."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.planes import ROWS
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.questions.view import Facts
from eptaro.core.tables.column import Column
from eptaro.outputs.arrow import to_array
from eptaro.outputs.files import replace_whole
from eptaro.places import Place
from eptaro.storage.about import about_book
from eptaro.storage.layout import PICKED, VERSION, part_name, with_metadata


def write_book(book: Facts, place: Place) -> Path | str:
    """Write the occupied cells of a book, and all that is needed to question them."""
    from pyarrow import parquet

    cells = book.cells
    kept = occupied_cells(cells)
    group, day = (part[kept] for part in cells.axis.cells_of())
    columns: dict[str, Any] = {
        f"group:{column.name}": to_array(column) for column in book.folded.groups.columns(group)
    }
    columns["day"] = to_array(Column.of("day", "date", day))
    planes, parts = parts_of(cells, kept)
    distinct = {name: [*map(str, c.to_list())] for name, c in book.folded.distinct.items()}
    about = {"version": VERSION, "planes": planes, "distinct": distinct} | about_book(book)
    table = with_metadata(pa.table(columns | parts), about)
    if place.local is None:
        place.write(partial(parquet.write_table, table, write_page_checksum=True))
        return place.name
    return replace_whole(
        Path(place.name),
        lambda beside: parquet.write_table(table, beside, write_page_checksum=True),
    )


def occupied_cells(cells: Cells) -> Ints:
    """Return the cells that hold rows."""
    rows = cells.tallies[ROWS]
    assert isinstance(rows, Sum)
    return np.flatnonzero(rows.whole)


def parts_of(cells: Cells, kept: Ints) -> tuple[list[list[Any]], dict[str, pa.Array]]:
    """Return the planes of some cells with their kinds and scales, and their parts as columns."""
    planes, columns = [], {}
    for plane, tally in cells.tallies.items():
        centre = tally.centre if isinstance(tally, Squares) else 0
        planes.append([plane.what, plane.column, tally.kind, tally.scale, centre])
        for part, values in _parts(tally, kept, cells.axis.size):
            columns[part_name(plane.what, plane.column, part)] = values
    return planes, columns


def _parts(tally: Any, kept: Ints, size: int) -> list[tuple[str, pa.Array]]:
    """Return the named parts of a tally at the kept cells."""
    if isinstance(tally, Sum | Squares):
        parts = [("whole", _array(tally.whole[kept]))]
        return parts if tally.rest is None else [*parts, ("rest", pa.array(tally.rest[kept]))]
    if isinstance(tally, Entries):
        counts = np.bincount(tally.cell, minlength=size)[kept]
        offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        return [("values", pa.LargeListArray.from_arrays(offsets, _array(tally.value)))]
    assert isinstance(tally, Pick)
    if tally.choices is not None:
        tally = replace(tally, value=np.asarray(tally.choices, object)[tally.value])
    place = np.full(size, -1, np.int64)
    place[tally.cell] = np.arange(len(tally.cell))
    at = place[kept]
    empty = at < 0
    return [
        (
            name,
            _array(
                getattr(tally, name)[np.maximum(at, 0)]
                if len(tally.cell)
                else np.zeros(len(at), np.int64),
                empty,
            ),
        )
        for name in PICKED
    ]


def _array(values: NDArray[Any], mask: Flags | None = None) -> pa.Array:
    """Return numbers as Arrow has them, whole ones beyond 64 bits as text."""
    if values.dtype == object:
        values = np.array([*map(str, values.tolist()), None], object)[:-1]
    return pa.array(values, mask=mask)
