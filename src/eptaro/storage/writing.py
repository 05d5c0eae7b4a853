"""Books to Parquet files (see `eptaro.storage.layout` for the shape)."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.questions.view import Facts
from eptaro.core.tables.column import Column
from eptaro.outputs.arrow import to_array
from eptaro.outputs.files import replace_whole
from eptaro.storage.layout import METADATA, PICKED, VERSION, part_name


def write_book(book: Facts, path: Path) -> Path:
    """Write the occupied cells of a book, and all that is needed to question them."""
    from pyarrow import parquet

    cells = book.cells
    rows = next(t for p, t in cells.tallies.items() if p.what == "rows")
    assert isinstance(rows, Sum)
    kept = np.flatnonzero(rows.whole)
    group, day = (part[kept] for part in cells.axis.cells_of())
    columns: dict[str, Any] = {
        f"group:{column.name}": to_array(column) for column in book.groups.columns(group)
    }
    columns["day"] = to_array(Column.of("day", "date", day))
    planes = []
    for plane, tally in cells.tallies.items():
        centre = tally.centre if isinstance(tally, Squares) else 0
        planes.append([plane.what, plane.column, tally.kind, tally.scale, centre])
        for part, values in _parts(tally, kept, cells.axis.size):
            columns[part_name(plane.what, plane.column, part)] = values
    table = pa.table(columns)
    meta = json.dumps({"version": VERSION, "planes": planes} | _about(book), ensure_ascii=False)
    table = table.replace_schema_metadata({METADATA: meta.encode("utf-8")})
    return replace_whole(path, lambda beside: parquet.write_table(table, beside))


def _about(book: Facts) -> dict[str, Any]:
    folded = book.folded
    return {
        "measures": [f"{measure.name}={measure.formula}" for measure in book.measures],
        "by": book.groups.names,
        "calendar": book.calendar.settings(),
        "own_calendars": book.own.settings() if book.own else None,
        "coverage": str(book.coverage),
        "rows": book.rows,
        "sources": list(folded.sources),
        "left_out": {name: str(total) for name, total in folded.left_out.items()},
        "notes": list(folded.notes),
        "grain": folded.grain,
        "own_coverage": _own_coverage(book),
        "where": None if folded.left is None else [folded.left.where, folded.left.rows],
        "fingerprints": sorted(folded.fingerprints),
        "distinct": {name: [*map(str, c.to_list())] for name, c in folded.distinct.items()},
    }


def _own_coverage(book: Facts) -> Any:
    """Return how the coverage goes by groups, as JSON takes it; None where it is common."""
    if book.spans is None:
        return None
    asked = book.spans.asked
    if isinstance(asked, str):
        return asked
    return [
        [[*map(str, key)] if isinstance(key, tuple) else [str(key)], str(span)]
        for key, span in asked.items()
    ]


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
