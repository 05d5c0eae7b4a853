"""Chunked Arrow columns as one array, without a copy where there is just one chunk."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
from numpy.typing import NDArray


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
