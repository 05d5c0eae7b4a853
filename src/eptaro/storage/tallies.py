"""The columns of a book's file as what is kept in cells."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Tally
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.planes import ROWS, Plane
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.tables.column import NO_NUMBERS
from eptaro.inputs.files.chunks import to_numpy
from eptaro.storage.layout import part_name

_MOST_DECIMALS = 400  # of sums that were brought to the decimals of others


def tallies_of(
    table: pa.Table, planes: Sequence[Sequence[Any]], cell: Ints, size: int
) -> dict[Plane, Tally]:
    """Return what each plane holds; `cell` is the place of each row among `size` cells."""
    found = {
        Plane(what, column): _tally(table, Plane(what, column), cell, size, about)
        for what, column, *about in planes
    }
    rows = found.get(ROWS)
    for plane, tally in found.items():
        if plane.what != "filled" or not isinstance(tally, Sum) or not isinstance(rows, Sum):
            continue
        if np.array_equal(tally.whole, rows.whole):  # kept once, as the fold does
            found[plane] = rows
    return found


def _numbers(array: Any) -> Any:
    """Return numbers, whole ones that are kept as text as Python integers."""
    if pa.types.is_string(array.type):
        return np.array([*map(int, array.to_pylist()), None], object)[:-1]
    return to_numpy(array) if isinstance(array, pa.ChunkedArray) else array.to_numpy()


def _tally(table: pa.Table, plane: Plane, cell: Ints, size: int, about: Sequence[Any]) -> Tally:
    kind, scale, centre = about
    picked = plane.what in ("min", "max", "first", "last")
    kinds = ("integer", "decimal", "float", *(NO_NUMBERS if picked else ()))
    if kind not in kinds or not 0 <= int(scale) <= _MOST_DECIMALS:
        raise ValueError(f"plane {plane} is of kind {kind!r} and scale {scale!r}")

    def part(name: str) -> pa.ChunkedArray:
        return table[part_name(plane.what, plane.column, name)]

    def on_cells(values: Any) -> Any:
        out = np.zeros(size, values.dtype)
        out[cell] = values
        return out

    match plane.what:
        case "rows" | "filled" | "sum":
            has_rest = part_name(plane.what, plane.column, "rest") in table.column_names
            rest = on_cells(to_numpy(part("rest"))) if has_rest else None
            return Sum(on_cells(_numbers(part("whole"))), rest, kind, scale)
        case "square":
            rest = on_cells(to_numpy(part("rest"))) if kind == "float" else None
            return Squares(on_cells(_numbers(part("whole"))), kind, scale, centre, rest)
        case "values" | "codes":
            lists = part("values").combine_chunks()
            lists = lists.chunk(0) if isinstance(lists, pa.ChunkedArray) else lists
            lengths = np.diff(lists.offsets.to_numpy())
            return Entries.of(np.repeat(cell, lengths), _numbers(lists.flatten()), kind, scale)
        case "min" | "max" | "first" | "last":
            filled = to_numpy(part("value").is_valid())
            time, row = (_numbers(part(name).drop_null()) for name in ("time", "row"))
            value, choices = part("value").drop_null(), None
            if kind == "text":
                words = np.array([*value.to_pylist(), None], object)[:-1]
                choices, value = np.unique(words, return_inverse=True)
            else:
                value = _numbers(value)
            pick = Pick(plane.what, cell[filled], value, time, row, kind, scale, choices=choices)
            return pick.moved(np.arange(size), size)
        case _:
            raise ValueError(f"plane {plane} is not known")
