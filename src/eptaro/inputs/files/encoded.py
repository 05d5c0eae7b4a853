"""Arrow columns as codes into a dictionary of their values."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyarrow as pa

from eptaro.core.kernels.chosen import KERNEL, code
from eptaro.core.kernels.sidebyside import WORKERS, at_once
from eptaro.inputs.files.chunks import one_array, plain

_ALL = np.empty(0, np.uint8)  # flags: all rows are filled
_LEAST_SLICE = 1 << 17  # rows; fewer are not worth a thread


def encoded(array: pa.ChunkedArray) -> pa.DictionaryArray:
    """Return a column as codes into a dictionary, worked out in slices side by side."""
    if pa.types.is_dictionary(array.type):
        return one_array(array.unify_dictionaries())
    if not len(array):
        return one_array(array.dictionary_encode())
    slices = min(WORKERS, len(array) // _LEAST_SLICE)
    width = -(-len(array) // max(slices, 1))
    cut = [array.slice(start, width) for start in range(0, len(array), width)]
    chunks = [chunk for part in cut for chunk in part.chunks]
    parts = at_once([partial(_encoded_chunk, chunk) for chunk in chunks])
    return one_array(pa.chunked_array(parts).unify_dictionaries())


def _encoded_chunk(chunk: pa.Array) -> pa.DictionaryArray:
    """Return one chunk as codes into a dictionary; texts by our own kernel where it was built."""
    kind = chunk.type
    large = pa.types.is_large_string(kind)
    if KERNEL == "numpy" or not len(chunk) or not (large or pa.types.is_string(kind)):
        return chunk.dictionary_encode()
    _, ends, data = chunk.buffers()
    offsets = np.frombuffer(ends, np.int64 if large else np.int32)
    offsets = offsets[chunk.offset : chunk.offset + len(chunk) + 1]
    filled = plain(chunk.is_valid()).view(np.uint8) if chunk.null_count else _ALL
    try:
        codes, firsts = code(np.frombuffer(data or b"", np.uint8), offsets, filled)
    except IndexError as error:
        raise pa.ArrowInvalid(f"damaged text: {error}") from None
    indices = pa.array(codes, mask=codes < 0) if chunk.null_count else pa.array(codes)
    return pa.DictionaryArray.from_arrays(indices, chunk.take(pa.array(firsts)))
