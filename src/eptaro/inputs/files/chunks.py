"""Chunked Arrow columns as one array, without a copy where there is just one chunk."""

from __future__ import annotations

from functools import partial
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.kernels.sidebyside import at_once


def one_array(column: pa.ChunkedArray) -> pa.Array:
    """Return a chunked column as one array."""
    if column.num_chunks == 1:
        return column.chunk(0)
    if not column.num_chunks:
        return pa.array([], column.type)
    return pa.concat_arrays(column.chunks)


def to_numpy(column: pa.ChunkedArray) -> NDArray[Any]:
    """Return a column without blanks as a NumPy array, copied only where it must be."""
    array: NDArray[Any] = one_array(column).to_numpy(zero_copy_only=False)
    return array


def unblanked(array: pa.ChunkedArray, blank: Any) -> NDArray[Any]:
    """Return a column as an array, with a value in the place of blanks."""
    return to_numpy(pc.fill_null(array, blank) if array.null_count else array)


def plain(array: pa.Array) -> NDArray[Any]:
    """Return an array as NumPy's."""
    return array.to_numpy(zero_copy_only=False)  # type: ignore[no-any-return]


def filtered(table: pa.Table, kept: NDArray[Any]) -> pa.Table:
    """Return some rows of a table, its columns worked on side by side."""
    mask = pa.array(kept)
    columns = at_once([partial(column.filter, mask) for column in table.columns])
    return pa.table(columns, names=table.column_names)
