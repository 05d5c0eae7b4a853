"""Books from Parquet files (see `eptaro.storage.layout` for the shape)."""

from __future__ import annotations

import json
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.calendars import from_settings
from eptaro.core.calendars.days import Ints
from eptaro.core.folds.axis import cells_axis
from eptaro.core.folds.cells import Cells, Tally
from eptaro.core.folds.encoding import Combiner
from eptaro.core.folds.folded import Folded, Left
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.planes import Plane
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.measures.measure import parse_measures
from eptaro.core.questions.book_options import BookOptions, Calendars
from eptaro.core.questions.group_coverage import Coverage
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.tables.column import NO_NUMBERS, Column
from eptaro.errors import EptaroError, InputError
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files.chunks import to_numpy
from eptaro.storage.layout import METADATA, VERSION, part_name

_MOST_DECIMALS = 400  # of sums that were brought to the decimals of others


def open_book(path: Path) -> tuple[Folded, BookOptions]:
    """Return the folded transactions of a book's file, and its measures, calendar(s) and coverage.

    Raises `InputError` where the file is missing, is no book, or is of a later version.
    """
    from pyarrow import parquet

    try:
        table = parquet.read_table(path)
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise InputError(f"{path}: cannot be read: {' '.join(str(error).split())}") from None
    packed = (table.schema.metadata or {}).get(METADATA)
    if packed is None:
        raise InputError(f"{path}: is a Parquet file, but not a book; use Daybook.read")
    try:
        about = json.loads(packed)
        if about.get("version") != VERSION:
            raise InputError(f"{path}: is of version {about.get('version')}; this reads {VERSION}")
        folded = _folded(table, about, str(path))
        folded.cells.check()
        measures = parse_measures(about["measures"])
        if missing := {p for m in measures for p in m.planes} - set(folded.cells.tallies):
            raise ValueError(f"lacks {missing}")
        own = about.get("own_calendars")
        calendar: Calendars = (
            OwnCalendars.from_settings(own) if own else from_settings(about["calendar"])
        )
        coverage: Coverage = about["coverage"]
        if by_group := about.get("own_coverage"):
            given = by_group if isinstance(by_group, str) else {tuple(k): s for k, s in by_group}
            coverage = given
        return folded, BookOptions(measures, [], calendar, coverage)
    except EptaroError:
        raise
    except Exception as error:  # what is damaged may lead to anything
        said = f"{type(error).__name__}: {error}"
        raise InputError(f"{path}: is a damaged book: {' '.join(said.split())}") from None


def _folded(table: pa.Table, about: dict[str, Any], name: str) -> Folded:
    combiner = Combiner(about["by"])
    coded = {g: read_groups(table[f"group:{g}"], g, name) for g in about["by"]}
    number = combiner.number(coded)
    groups, rank = combiner.ranked()
    group = np.zeros(table.num_rows, np.int64) if number is None else rank[number]
    day = to_numpy(table["day"].cast(pa.int32())).astype(np.int64)
    axis, cell = cells_axis(group, day, groups.count)
    tallies = {}
    for what, column, kind, scale, centre in about["planes"]:
        plane = Plane(what, column)
        tallies[plane] = _tally(table, plane, cell, axis.size, (kind, scale, centre))
    distinct = {
        column: Column.text(column, np.array([*values, None], object)[:-1])
        for column, values in about["distinct"].items()
    }
    return Folded(
        groups,
        Cells(axis, tallies),
        about["rows"],
        tuple(about["sources"] if "sources" in about else [about["source"]]),
        None,
        {column: _number(total) for column, total in about["left_out"].items()},
        tuple(about["notes"]),
        frozenset(about["fingerprints"]),
        distinct,
        left=Left(*about["where"]) if about.get("where") else None,
        grain=about.get("grain", "day"),
    )


def _number(text: str) -> Any:
    try:
        return Decimal(text)
    except InvalidOperation:
        return float(text)


def _numbers(array: Any) -> Any:
    """Return numbers, whole ones that are kept as text as Python integers."""
    if pa.types.is_string(array.type):
        return np.array([*map(int, array.to_pylist()), None], object)[:-1]
    return to_numpy(array) if isinstance(array, pa.ChunkedArray) else array.to_numpy()


def _tally(table: pa.Table, plane: Plane, cell: Ints, size: int, about: tuple[Any, ...]) -> Tally:
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
