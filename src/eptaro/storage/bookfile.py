"""Books to Parquet files and back (see `eptaro.storage.layout` for the shape)."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.axis import cells_axis
from eptaro.core.aggregation.cells import ROWS, Cells, Plane, Tally
from eptaro.core.aggregation.encoding import GroupEncoder
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.selected import SelectedValues, ValueLists
from eptaro.core.aggregation.sums import Squares, Sum
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.query.book_options import BookOptions
from eptaro.core.query.view import BookData
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.errors import InputError
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files.chunks import to_numpy
from eptaro.outputs.arrow import to_array
from eptaro.outputs.files import replace_whole
from eptaro.paths import StoragePath
from eptaro.storage.layout import PICKED, VERSION, damage, part_name, with_metadata
from eptaro.storage.metadata import about_book, options_from_metadata, rows_from_metadata
from eptaro.version import BOOK_MARK

_MOST_DECIMALS = 400  # of sums that were brought to the decimals of others


def tallies_of(
    table: pa.Table, planes: Sequence[Sequence[Any]], cell: Ints, size: int
) -> dict[Plane, Tally]:
    """Return what each plane holds; `cell` is the place of each row among `size` cells."""
    tallies = {
        Plane(what, column): _tally(table, Plane(what, column), cell, size, about)
        for what, column, *about in planes
    }
    rows = tallies.get(ROWS)
    for plane, tally in tallies.items():
        if plane.what != "filled" or not isinstance(tally, Sum) or not isinstance(rows, Sum):
            continue
        if np.array_equal(tally.whole, rows.whole):  # kept once, as the fold does
            tallies[plane] = rows
    return tallies


def _numbers(array: Any) -> Any:
    """Return numbers, whole ones that are kept as text as Python integers."""
    if pa.types.is_string(array.type):
        return np.array([*map(int, array.to_pylist()), None], object)[:-1]
    return to_numpy(array) if isinstance(array, pa.ChunkedArray) else array.to_numpy()


def _tally(table: pa.Table, plane: Plane, cell: Ints, size: int, about: Sequence[Any]) -> Tally:
    kind, scale, centre = about
    is_selection = plane.what in ("min", "max", "first", "last")
    kinds = ("integer", "decimal", "float", *(NO_NUMBERS if is_selection else ()))
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
            return ValueLists.of(np.repeat(cell, lengths), _numbers(lists.flatten()), kind, scale)
        case "min" | "max" | "first" | "last":
            filled = to_numpy(part("value").is_valid())
            time, row = (_numbers(part(name).drop_null()) for name in ("time", "row"))
            value, choices = part("value").drop_null(), None
            if kind == "text":
                words = np.array([*value.to_pylist(), None], object)[:-1]
                choices, value = np.unique(words, return_inverse=True)
            else:
                value = _numbers(value)
            pick = SelectedValues(
                plane.what, cell[filled], value, time, row, kind, scale, choices=choices
            )
            return pick.move(np.arange(size), size)
        case _:
            raise ValueError(f"plane {plane} is not known")


def write_book(book: BookData, place: StoragePath) -> Path | str:
    """Write the occupied cells of a book, and all that is needed to question them."""
    from pyarrow import parquet

    cells = book.cells
    occupied = occupied_cells(cells)
    group, day = (part[occupied] for part in cells.axis.cells_of())
    columns: dict[str, Any] = {
        f"group:{column.name}": to_array(column) for column in book.folded.groups.columns(group)
    }
    columns["day"] = to_array(Column.of("day", "date", day))
    planes, parts = parts_of(cells, occupied)
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


def parts_of(cells: Cells, cells_kept: Ints) -> tuple[list[list[Any]], dict[str, pa.Array]]:
    """Return the planes of some cells with their kinds and scales, and their parts as columns."""
    planes, columns = [], {}
    for plane, tally in cells.tallies.items():
        centre = tally.centre if isinstance(tally, Squares) else 0
        planes.append([plane.what, plane.column, tally.kind, tally.scale, centre])
        for part, values in _parts_of_tally(tally, cells_kept, cells.axis.size):
            columns[part_name(plane.what, plane.column, part)] = values
    return planes, columns


def _parts_of_tally(tally: Any, cells_kept: Ints, size: int) -> list[tuple[str, pa.Array]]:
    """Return the named parts of a tally at the kept cells."""
    if isinstance(tally, Sum | Squares):
        parts = [("whole", _array(tally.whole[cells_kept]))]
        return parts if tally.rest is None else [*parts, ("rest", pa.array(tally.rest[cells_kept]))]
    if isinstance(tally, ValueLists):
        counts = np.bincount(tally.cell, minlength=size)[cells_kept]
        offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        return [("values", pa.LargeListArray.from_arrays(offsets, _array(tally.value)))]
    assert isinstance(tally, SelectedValues)
    if tally.choices is not None:
        tally = replace(tally, value=np.asarray(tally.choices, object)[tally.value])
    place = np.full(size, -1, np.int64)
    place[tally.cell] = np.arange(len(tally.cell))
    at = place[cells_kept]
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


def open_book(path: StoragePath) -> tuple[Folded, BookOptions]:
    """Return the folded transactions of a book's file, and its measures, calendar(s) and coverage.

    Raises `InputError` where the file is missing, is no book, or is of a later version.
    """
    from pyarrow import parquet

    try:
        with path.describe_errors("read"):
            table = parquet.read_table(
                path.path,
                filesystem=path.system,
                partitioning=None,
                page_checksum_verification=True,
            )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise InputError(f"{path}: cannot be read: {' '.join(str(error).split())}") from None
    packed = (table.schema.metadata or {}).get(BOOK_MARK)
    if packed is None:
        raise InputError(f"{path}: is a Parquet file, but not a book; use Daybook.read")
    with damage(path):
        about = json.loads(packed)
        if about.get("version") != VERSION:
            raise InputError(f"{path}: is of version {about.get('version')}; this reads {VERSION}")
        folded = _read_folded(table, about, str(path))
        folded.cells.check()
        options = options_from_metadata(about)
        if missing := {p for m in options.measures for p in m.planes} - set(folded.cells.tallies):
            raise ValueError(f"lacks {missing}")
        return folded, options


def _read_folded(table: pa.Table, about: dict[str, Any], name: str) -> Folded:
    combiner = GroupEncoder(about["by"])
    coded = {g: read_groups(table[f"group:{g}"], g, name) for g in about["by"]}
    number = combiner.number(coded)
    groups, rank = combiner.ranked_groups()
    group = np.zeros(table.num_rows, np.int64) if number is None else rank[number]
    day = to_numpy(table["day"].cast(pa.int32())).astype(np.int64)
    axis, cell = cells_axis(group, day, groups.count)
    cells = Cells(axis, tallies_of(table, about["planes"], cell, axis.size))
    distinct = {
        column: Column.text(column, np.array([*values, None], object)[:-1])
        for column, values in about["distinct"].items()
    }
    return Folded(groups, cells, distinct=distinct, **rows_from_metadata(about))
