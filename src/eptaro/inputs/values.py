"""Arrow arrays as columns: numbers to measure, and values to group by."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.column import Column
from eptaro.core.errors import InputError, MeasureError
from eptaro.core.groups import Coded

_MOST_DECIMALS = 6
_EXACT = 2**53


def read_filled(array: pa.ChunkedArray, name: str) -> Column:
    """Return a column that only tells which rows are filled, whatever it holds."""
    valid = None
    if array.null_count:
        valid = _numpy(array.is_valid().combine_chunks())
    if pa.types.is_floating(array.type):
        return Column.of(name, "float", _numpy(_flat(array, 0.0)), valid)
    return Column.of(name, "flag", np.zeros(len(array), bool), valid)


def read_numbers(array: pa.ChunkedArray, name: str, source: str, *, text_numbers: bool) -> Column:
    """Return a numeric column: integers, decimals (exact) or floats.

    With `text_numbers` the floats were parsed from text, so they are decimals wherever
    that gives the same digits back.
    """
    kind = array.type
    if pa.types.is_dictionary(kind):
        array, kind = array.cast(kind.value_type), kind.value_type
    valid = None
    if array.null_count:
        valid = _numpy(array.is_valid().combine_chunks())
    if pa.types.is_null(kind):
        return Column.of(name, "integer", np.zeros(len(array), np.int64), valid)
    if pa.types.is_integer(kind):
        try:
            return Column.of(name, "integer", _numpy(_flat(array.cast(pa.int64()), 0)), valid)
        except pa.ArrowInvalid:
            raise MeasureError(f"{source}: {name!r} holds integers over 64 bits") from None
    if pa.types.is_floating(kind):
        data = _numpy(_flat(array.cast(pa.float64()), 0.0))
        exact = _recovered(data, name, valid) if text_numbers else None
        return exact or Column.of(name, "float", data, valid)
    if pa.types.is_decimal(kind):
        return _decimals(array, name, source, valid)
    raise MeasureError(f"{source}: {_not_numbers(array, name)}")


def _recovered(data: NDArray[np.float64], name: str, valid: Any) -> Column | None:
    """Return floats that were parsed from decimal text as exact decimals, if they are.

    A decimal of up to 15 digits and its nearest float determine each other, so where
    k / 10**s gives back the very float, the text said k units of 10**-s.
    """
    if not np.isfinite(data).all():
        return None
    for scale in range(_MOST_DECIMALS + 1):
        units = np.rint(data * 10.0**scale)
        if not (np.abs(units) < _EXACT).all():
            return None
        if (units / 10.0**scale == data).all():
            return Column.of(name, "decimal", units.astype(np.int64), valid, scale=scale)
    return None


def _decimals(array: pa.ChunkedArray, name: str, source: str, valid: Any) -> Column:
    scale = array.type.scale
    if not 0 <= scale <= 18:
        raise MeasureError(f"{source}: {name!r} has {scale} decimals; 0 to 18 fit")
    flat = array.cast(pa.decimal128(38, scale)).combine_chunks()
    if isinstance(flat, pa.ChunkedArray):
        flat = pa.concat_arrays(flat.chunks) if flat.num_chunks else pa.array([], flat.type)
    words = np.frombuffer(flat.buffers()[1] or b"", np.int64).reshape(-1, 2)
    words = words[flat.offset : flat.offset + len(flat)]
    low, high = words[:, 0], words[:, 1]
    fits = high == low >> 63
    if valid is not None:
        fits |= ~valid
    if not fits.all():
        row = int(np.flatnonzero(~fits)[0])
        raise MeasureError(
            f"{source}: row {row + 1:,} of {name!r}: {flat[row].as_py()} does not fit into 64 bits "
            f"at {scale} decimals; store the column with fewer decimals"
        )
    data = low if valid is None else np.where(valid, low, 0)
    return Column.of(name, "decimal", data, valid, scale=scale)


def _not_numbers(array: pa.ChunkedArray, name: str) -> str:
    if pa.types.is_string(array.type) or pa.types.is_large_string(array.type):
        numeric = pc.match_substring_regex(array, r"^\s*[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\s*$")
        row = pc.index(pc.fill_null(numeric, True), False).as_py()
        if row >= 0:
            return f"row {row + 1:,} of {name!r}: {array[row].as_py()!r} is not a number"
        return f"{name!r} holds numbers as text; convert the column to numbers first"
    return f"{name!r} holds {array.type}, not numbers"


def read_groups(array: pa.ChunkedArray, name: str, source: str) -> Coded:
    """Return a group column as codes into its distinct values, -1 where blank."""
    kind = array.type
    if pa.types.is_floating(kind):
        try:  # a frame with blanks often holds whole numbers as floats
            array = pc.if_else(pc.is_nan(array), None, array).cast(pa.int64())
        except pa.ArrowInvalid:
            raise InputError(f"{source}: group column {name!r} holds fractions") from None
    if not pa.types.is_dictionary(array.type):
        array = array.dictionary_encode()
    whole = array.unify_dictionaries().combine_chunks()
    if isinstance(whole, pa.ChunkedArray):
        whole = whole.chunk(0) if whole.num_chunks else pa.array([], array.type)
    codes = _numpy(whole.indices.fill_null(-1)).astype(np.int32, copy=False)
    words, kind = whole.dictionary, whole.dictionary.type
    if words.null_count:
        raise InputError(f"{source}: group column {name!r} has a blank among its dictionary values")
    if pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind):
        texts = np.array([*words.to_pylist(), None], object)[:-1]
        return _merged(codes, Column.text(name, texts))
    if pa.types.is_integer(kind):
        return Coded(
            codes, Column.of(name, "integer", _numpy(words.cast(pa.int64())), unit="number")
        )
    if pa.types.is_boolean(kind):
        return Coded(codes, Column.of(name, "flag", _numpy(words)))
    if pa.types.is_date32(kind):
        return Coded(codes, Column.of(name, "date", _numpy(words.cast(pa.int32()))))
    if pa.types.is_null(kind):
        return Coded(np.full(len(array), -1, np.int32), Column.text(name, np.array([""])))
    raise InputError(
        f"{source}: group column {name!r} holds {kind}; "
        f"group by text, whole numbers, dates or flags"
    )


def _merged(codes: NDArray[np.int32], choices: Column) -> Coded:
    """Return the codes with texts that stand in the dictionary twice made one."""
    texts = choices.to_list()
    places: dict[str, int] = {}
    target = np.array([places.setdefault(text, len(places)) for text in texts] + [-1], np.int32)
    if len(places) == len(texts):
        return Coded(codes, choices)
    return Coded(target[codes], Column.text(choices.name, np.array([*places, None], object)[:-1]))


def _flat(array: pa.ChunkedArray, blank: Any) -> pa.Array:
    return (pc.fill_null(array, blank) if array.null_count else array).combine_chunks()


def _numpy(array: pa.Array | pa.ChunkedArray) -> NDArray[Any]:
    return array.to_numpy() if isinstance(array, pa.ChunkedArray) else array.to_numpy(False)  # type: ignore[no-any-return]
