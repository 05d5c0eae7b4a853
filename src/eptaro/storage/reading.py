"""Books from Parquet files (see `eptaro.storage.layout` for the shape)."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.folds.axis import cells_axis
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.encoding import Combiner
from eptaro.core.folds.folded import Folded
from eptaro.core.questions.book_options import BookOptions
from eptaro.core.tables.column import Column
from eptaro.errors import InputError
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.files.chunks import to_numpy
from eptaro.places import Place
from eptaro.storage.about import options_told, rows_told
from eptaro.storage.damage import damage
from eptaro.storage.layout import METADATA, VERSION
from eptaro.storage.tallies import tallies_of


def open_book(path: Place) -> tuple[Folded, BookOptions]:
    """Return the folded transactions of a book's file, and its measures, calendar(s) and coverage.

    Raises `InputError` where the file is missing, is no book, or is of a later version.
    """
    from pyarrow import parquet

    try:
        with path.told("read"):
            table = parquet.read_table(
                path.path,
                filesystem=path.system,
                partitioning=None,
                page_checksum_verification=True,
            )
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise InputError(f"{path}: cannot be read: {' '.join(str(error).split())}") from None
    packed = (table.schema.metadata or {}).get(METADATA)
    if packed is None:
        raise InputError(f"{path}: is a Parquet file, but not a book; use Daybook.read")
    with damage(path):
        about = json.loads(packed)
        if about.get("version") != VERSION:
            raise InputError(f"{path}: is of version {about.get('version')}; this reads {VERSION}")
        folded = _folded(table, about, str(path))
        folded.cells.check()
        options = options_told(about)
        if missing := {p for m in options.measures for p in m.planes} - set(folded.cells.tallies):
            raise ValueError(f"lacks {missing}")
        return folded, options


def _folded(table: pa.Table, about: dict[str, Any], name: str) -> Folded:
    combiner = Combiner(about["by"])
    coded = {g: read_groups(table[f"group:{g}"], g, name) for g in about["by"]}
    number = combiner.number(coded)
    groups, rank = combiner.ranked()
    group = np.zeros(table.num_rows, np.int64) if number is None else rank[number]
    day = to_numpy(table["day"].cast(pa.int32())).astype(np.int64)
    axis, cell = cells_axis(group, day, groups.count)
    cells = Cells(axis, tallies_of(table, about["planes"], cell, axis.size))
    distinct = {
        column: Column.text(column, np.array([*values, None], object)[:-1])
        for column, values in about["distinct"].items()
    }
    return Folded(groups, cells, distinct=distinct, **rows_told(about))
