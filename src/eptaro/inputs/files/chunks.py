"""Arrow columns as NumPy arrays, and as codes into a dictionary."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.groups import natural_order
from eptaro.core.kernels.dispatch import KERNEL
from eptaro.core.kernels.parallel import WORKERS, chunks, run_parallel
from eptaro.core.kernels.reading import RowMask, dictionary_encode
from eptaro.core.results.column import Column
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
_FIRST_LOOK = 1 << 14  # rows, of which the texts are known to all slices
_FEW = 1 << 12  # texts, which it costs nothing to put in order


def encode_dictionary(array: pa.ChunkedArray, *, ordered: bool = False) -> pa.DictionaryArray:
    """Return a column as codes into a dictionary, calculated in slices side by side; where a few
    texts make it up, those may be `ordered` naturally.
    """
    if pa.types.is_dictionary(array.type):
        return one_array(array.unify_dictionaries())
    if not len(array):
        return one_array(array.dictionary_encode())
    if KERNEL != "numpy" and is_plain_text(array.type):
        texts = [chunk for chunk in array.chunks if len(chunk)]
        parts = run_parallel([partial(_encode_texts, chunk, ordered=ordered) for chunk in texts])
        return one_array(pa.chunked_array(parts).unify_dictionaries())
    slices = min(WORKERS, len(array) // _LEAST_SLICE)
    width = -(-len(array) // max(slices, 1))
    cut = [array.slice(start, width) for start in range(0, len(array), width)]
    parts = run_parallel([chunk.dictionary_encode for part in cut for chunk in part.chunks])
    return one_array(pa.chunked_array(parts).unify_dictionaries())


def is_plain_text(kind: pa.DataType) -> bool:
    """Return whether a type holds text as it is written, one after the other."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


@contextmanager
def damaged_text() -> Iterator[None]:
    """Raise `ArrowInvalid` where texts lead out of their bytes."""
    try:
        yield
    except IndexError as error:
        raise pa.ArrowInvalid(f"damaged text: {error}") from None


def text_bytes(chunk: pa.Array) -> tuple[NDArray[np.uint8], NDArray[Any]]:
    """Return the bytes of texts, and where each begins and the last one ends."""
    _, ends, buffer = chunk.buffers()
    offsets = np.frombuffer(ends, np.int64 if pa.types.is_large_string(chunk.type) else np.int32)
    return (
        np.frombuffer(buffer or b"", np.uint8),
        offsets[chunk.offset : chunk.offset + len(chunk) + 1],
    )


def _encode_texts(chunk: pa.Array, *, ordered: bool) -> pa.DictionaryArray:
    """Return texts as codes into a dictionary, by our own kernel.

    The texts of the first rows are known to all slices, which therefore give them the same codes;
    where others are met, codes are made the same afterwards.
    """
    rows, (data, offsets) = len(chunk), text_bytes(chunk)
    filled = plain(chunk.is_valid()).view(np.uint8) if chunk.null_count else _ALL
    codes = np.empty(rows, np.int32)
    known = np.empty((0, 2), offsets.dtype)

    def encode(of: slice) -> NDArray[np.int64]:
        own = offsets[of.start : of.stop + 1]
        firsts = dictionary_encode(data, own, filled[of], known, codes[of])
        return np.asarray(firsts + of.start)

    cuts = chunks(rows, rows // _LEAST_SLICE)
    new: list[NDArray[np.int64]] = []
    with damaged_text():
        firsts = encode(cuts[0] if len(cuts) == 1 else slice(0, _FIRST_LOOK))
        words = pc.take(chunk, pc.array_of(firsts))
        if ordered and len(cuts) > 1 and len(words) <= _FEW:
            order = natural_order(Column.text("", words.to_numpy(zero_copy_only=False)))
            firsts, words = firsts[order], pc.take(words, pc.array_of(order))
        if len(cuts) > 1:
            known = np.stack([offsets[firsts], offsets[firsts + 1]], axis=1)
            new = run_parallel([partial(encode, of) for of in cuts])
    if any(map(len, new)):
        every = pc.take(chunk, pc.array_of(np.concatenate([firsts, *new])))
        words = _unify_codes(every, len(firsts), [*map(len, new)], [codes[of] for of in cuts])
    indices = pa.array(codes, mask=codes < 0) if chunk.null_count else pc.array_of(codes)
    return pa.DictionaryArray.from_arrays(indices, words, safe=False)  # no look at each code


def _unify_codes(
    words: pa.Array, known: int, new: list[int], parts: list[NDArray[np.int32]]
) -> pa.Array:
    """Return the different ones of some words, and change the codes of parts to lead to these.

    Of `words`, `known` have the same code in all parts; behind them are the `new` ones of each.
    """
    own = words.slice(known).dictionary_encode()
    numbers = np.append(plain(own.indices) + known, -1).astype(np.int32)
    ends = np.cumsum(new).tolist()

    def renumber(part: NDArray[np.int32], begin: int, end: int) -> None:
        table = np.concatenate([np.arange(known), numbers[begin:end], [-1]]).astype(np.int32)
        np.take(table, part, out=part, mode="wrap")

    run_parallel(
        [
            partial(renumber, part, begin, end)
            for part, begin, end in zip(parts[1:], ends, ends[1:], strict=False)
        ]
    )
    return pa.concat_arrays([words.slice(0, known), own.dictionary])


def first_rows(texts: pa.Array) -> NDArray[np.int64]:
    """Return the rows in which each different text occurs first.

    >>> first_rows(pa.array(["b", "a", "b", "c"])).tolist()
    [0, 1, 3]
    """
    codes = encode_dictionary(pa.chunked_array([texts])).indices
    return np.sort(np.unique(plain(codes), return_index=True)[1])


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


def unreadable(path: object, error: Exception) -> InputError:
    """Return the error for a file that a library could not read."""
    return InputError(f"{path}: cannot be read: {' '.join(str(error).split())}")
