"""Arrow columns as NumPy arrays, and as codes into a dictionary."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.kernels.dispatch import KERNEL
from eptaro.core.kernels.parallel import WORKERS, run_parallel
from eptaro.core.kernels.reading import RowMask, dictionary_encode
from eptaro.errors import EptaroError, InputError
from eptaro.inputs import arrow_compute as pc


def one_array(column: pa.ChunkedArray) -> pa.Array:
    """Return a chunked column as one array."""
    if column.num_chunks == 1:
        return column.chunk(0)
    if not column.num_chunks:
        kind = column.type
        if pa.types.is_dictionary(kind):
            values = pa.array([], kind.value_type)
            return pa.DictionaryArray.from_arrays(pa.array([], kind.index_type), values)
        return pa.array([], kind)
    return pa.concat_arrays(column.chunks)


def to_numpy(column: pa.ChunkedArray) -> NDArray[Any]:
    """Return a column without blanks as a NumPy array, copied only where it must be."""
    array: NDArray[Any] = one_array(column).to_numpy(zero_copy_only=False)
    return array


def fill_blanks(array: pa.ChunkedArray, blank: Any) -> NDArray[Any]:
    """Return a column as an array, with a value in the place of blanks."""
    return to_numpy(pc.fill_null(array, blank) if array.null_count else array)


def plain(array: pa.Array) -> NDArray[Any]:
    """Return an array as NumPy's."""
    return array.to_numpy(zero_copy_only=False)  # type: ignore[no-any-return]


def filter_rows(table: pa.Table, keeping: RowMask) -> pa.Table:
    """Return the rows of a table that are kept."""
    columns = [_filter_buffers(column, keeping) for column in table.columns]
    return pa.table(columns, names=table.column_names)


def _filter_buffers(column: pa.ChunkedArray, keeping: RowMask) -> pa.Array | pa.ChunkedArray:
    kind = column.type
    if pa.types.is_dictionary(kind) and column.num_chunks == 1:
        whole = column.chunk(0)
        codes = _filter_buffers(pa.chunked_array([whole.indices]), keeping)
        return pa.DictionaryArray.from_arrays(codes, whole.dictionary, ordered=kind.ordered)
    if not pa.types.is_primitive(kind) or pa.types.is_boolean(kind) or pa.types.is_decimal(kind):
        return column.filter(pa.array(keeping.mask))
    whole = one_array(column)
    size = kind.bit_width // 8
    data = np.frombuffer(whole.buffers()[1] or b"", f"u{size}")
    buffers = [None, pa.py_buffer(keeping.of(data[whole.offset : whole.offset + len(whole)]))]
    if whole.null_count:
        filled = np.packbits(keeping.of(plain(whole.is_valid())), bitorder="little")
        buffers[0] = pa.py_buffer(filled)
    return pa.Array.from_buffers(kind, keeping.count, buffers)


_ALL = np.empty(0, np.uint8)  # flags: all rows are filled
_LEAST_SLICE = 1 << 17  # rows; fewer are not worth a thread


def encode_dictionary(array: pa.ChunkedArray) -> pa.DictionaryArray:
    """Return a column as codes into a dictionary, calculated in slices side by side."""
    if pa.types.is_dictionary(array.type):
        return one_array(array.unify_dictionaries())
    if not len(array):
        return one_array(array.dictionary_encode())
    slices = min(WORKERS, len(array) // _LEAST_SLICE)
    width = -(-len(array) // max(slices, 1))
    cut = [array.slice(start, width) for start in range(0, len(array), width)]
    chunks = [chunk for part in cut for chunk in part.chunks]
    parts = run_parallel([partial(_encode_chunk, chunk) for chunk in chunks])
    return one_array(pa.chunked_array(parts).unify_dictionaries())


def _encode_chunk(chunk: pa.Array) -> pa.DictionaryArray:
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
        codes, firsts = dictionary_encode(np.frombuffer(data or b"", np.uint8), offsets, filled)
    except IndexError as error:
        raise pa.ArrowInvalid(f"damaged text: {error}") from None
    indices = pa.array(codes, mask=codes < 0) if chunk.null_count else pc.array_of(codes)
    return pa.DictionaryArray.from_arrays(indices, pc.take(chunk, pc.array_of(firsts)))


@contextmanager
def translate_errors(name: str) -> Iterator[None]:
    """Raise `InputError` naming the input where it turns out damaged while it is read."""
    try:
        yield
    except EptaroError:
        raise
    except _damages() as error:
        raise InputError(f"{name}: cannot be read: {' '.join(str(error).split())}") from None


def _damages() -> tuple[type[Exception], ...]:
    """Return what readers raise for damaged input; the packers are only loaded where one has."""
    import lzma
    import zlib

    return (pa.ArrowException, OSError, UnicodeError, zlib.error, lzma.LZMAError, EOFError)


_SAMPLE, _SAMPLES = 1 << 16, 65  # bytes of each sample of a file, and how many there are
_REQUESTS = 16  # samples of a remote file that are asked for at a time


def file_digest(path: Path) -> str:
    """Return a digest of a file: of its size, and of all its bytes, or of samples of a long one."""
    with path.open("rb") as file:
        return digest_of(file, path.stat().st_size)


def digest_of(file: Any, size: int) -> str:
    """Return the same of a file that is open, wherever it lies."""
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    if size <= _SAMPLE * _SAMPLES:
        digest.update(file.read())
        return digest.hexdigest()
    starts = [(size - _SAMPLE) * number // (_SAMPLES - 1) for number in range(_SAMPLES)]
    if hasattr(file, "read_at"):  # each is a request, which takes its time wherever the file is far
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(_REQUESTS) as pool:
            for sample in pool.map(partial(file.read_at, _SAMPLE), starts):
                digest.update(sample)
        return digest.hexdigest()
    for start in starts:
        file.seek(start)
        digest.update(file.read(_SAMPLE))
    return digest.hexdigest()


def unreadable(path: object, error: Exception) -> InputError:
    """Return the error for a file that a library could not read."""
    return InputError(f"{path}: cannot be read: {' '.join(str(error).split())}")
