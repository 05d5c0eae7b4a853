"""Arrow arrays as columns: numbers to measure, and values to group by."""

from __future__ import annotations

import os
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.folds.groups import Coded
from eptaro.core.kernels.chosen import marked
from eptaro.core.tables.column import Column
from eptaro.errors import InputError, MeasureError
from eptaro.inputs.ahead import at_once
from eptaro.inputs.files.chunks import one_array, to_numpy
from eptaro.inputs.sources import Source

_MOST_DECIMALS = 6
_MOST_MARKED = 8  # whole numbers between the least and the largest, for each row
_LEAST_SLICE = 1 << 17  # rows; fewer are not worth a thread
_EXACT = 2**53


def read_filled(array: pa.ChunkedArray, name: str) -> Column:
    """Return a column that only tells which rows are filled, whatever it holds."""
    valid = None
    if array.null_count:
        valid = to_numpy(array.is_valid())
    if pa.types.is_floating(array.type):
        return Column.of(name, "float", _unblanked(array, 0.0), valid)
    return Column.of(name, "flag", np.zeros(len(array), bool), valid)


def read_numbers(array: pa.ChunkedArray, name: str, source: Source, first_row: int = 0) -> Column:
    """Return a numeric column: integers, decimals (exact) or floats.

    `first_row` is the place of the first in the whole source.

    Numbers of a text source are decimals by nature: they become floats only where they
    have more decimals than can be kept.
    """
    kind = array.type
    if pa.types.is_dictionary(kind):
        array, kind = array.cast(kind.value_type), kind.value_type
    valid = None
    if array.null_count:
        valid = to_numpy(array.is_valid())
    if pa.types.is_null(kind):
        return Column.of(name, "integer", np.zeros(len(array), np.int64), valid)
    if pa.types.is_integer(kind):
        try:
            return Column.of(name, "integer", _unblanked(array.cast(pa.int64()), 0), valid)
        except pa.ArrowInvalid:
            raise MeasureError(f"{source.name}: {name!r} holds integers over 64 bits") from None
    if pa.types.is_floating(kind):
        data = _unblanked(array.cast(pa.float64()), 0.0)
        if not source.of_text or not np.isfinite(data).all():
            return Column.of(name, "float", data, valid)
        if exact := _recovered(data, name, valid):
            return exact
        if np.abs(data).max(initial=0) * 10**_MOST_DECIMALS >= _EXACT and (
            long := _written(source.digits(name).slice(first_row, len(array)))
        ):
            return _decimals(long, name, source.name, valid)
        return Column.of(name, "float", data, valid)
    if pa.types.is_decimal(kind):
        return _decimals(array, name, source.name, valid)
    raise MeasureError(f"{source.name}: {_not_numbers(array, name)}")


def _recovered(data: NDArray[np.float64], name: str, valid: Any) -> Column | None:
    """Return floats that were parsed from decimal text as exact decimals, if they are.

    A decimal of up to 15 digits and its nearest float determine each other, so where
    k / 10**s gives back the very float, the text said k units of 10**-s.
    """
    for scale in (0, *range(2, _MOST_DECIMALS + 1)):  # money has two decimals, not one
        units = np.rint(data * 10.0**scale)
        if not (np.abs(units) < _EXACT).all():
            return None
        if (units / 10.0**scale == data).all():
            kind = "decimal" if scale else "integer"
            return Column.of(name, kind, units.astype(np.int64), valid, scale=scale)  # type: ignore[arg-type]
    return None


def _written(texts: pa.ChunkedArray) -> pa.ChunkedArray | None:
    """Return numbers too long for floats as decimals, read from their digits."""
    places = pc.utf8_length(pc.replace_substring_regex(texts, r"^[^.]*\.?", ""))
    try:
        return texts.cast(pa.decimal128(38, pc.max(places).as_py() or 0))
    except pa.ArrowInvalid:  # exponents, or more digits than any decimal holds
        return None


def _decimals(array: pa.ChunkedArray, name: str, source: str, valid: Any) -> Column:
    scale = array.type.scale
    if not 0 <= scale <= 18:
        raise MeasureError(f"{source}: {name!r} has {scale} decimals; 0 to 18 fit")
    flat = one_array(array.cast(pa.decimal128(38, scale)))
    low, fits = _words(flat)
    if not fits.all():  # zeros at the end of all of them need not be kept
        flat = _shortened(flat)
        scale = flat.type.scale
        low, fits = _words(flat)
    if not fits.all():
        row = int(np.flatnonzero(~fits)[0])
        raise MeasureError(
            f"{source}: row {row + 1:,} of {name!r}: {flat[row].as_py()} does not fit into 64 bits "
            f"at {scale} decimals; store the column with fewer decimals"
        )
    data = low if valid is None else np.where(valid, low, 0)
    return Column.of(name, "decimal", data, valid, scale=scale)


def _words(flat: pa.Array) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Return the low 64 bits of decimals, and where these are all there is, or blank."""
    words = np.frombuffer(flat.buffers()[1] or b"", np.int64).reshape(-1, 2)
    words = words[flat.offset : flat.offset + len(flat)]
    fits = words[:, 1] == words[:, 0] >> 63
    if flat.null_count:
        fits |= to_numpy(pa.chunked_array([flat.is_null()]))
    return words[:, 0], fits


def _shortened(flat: pa.Array) -> pa.Array:
    """Return decimals with the fewest decimals that hold all of them."""
    for scale in range(flat.type.scale):
        try:
            return flat.cast(pa.decimal128(38, scale))
        except pa.ArrowInvalid:  # digits would be lost
            continue
    return flat


def _not_numbers(array: pa.ChunkedArray, name: str) -> str:
    if pa.types.is_string(array.type) or pa.types.is_large_string(array.type):
        numeric = pc.match_substring_regex(array, r"^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$")
        row = pc.index(pc.fill_null(numeric, True), False).as_py()
        if row >= 0:
            return f"row {row + 1:,} of {name!r}: {array[row].as_py()!r} is not a number"
        return f"{name!r} holds numbers as text; convert the column to numbers first"
    return f"{name!r} holds {array.type}, not numbers"


def read_groups(array: pa.ChunkedArray, name: str, source: str) -> Coded:
    """Return a group column as codes into its distinct values, -1 where blank."""
    kind = array.type
    if pa.types.is_null(kind):
        return Coded(np.full(len(array), -1, np.int32), Column.text(name, np.array([], object)))
    if pa.types.is_floating(kind):
        try:  # a frame with blanks often holds whole numbers as floats
            array = pc.if_else(pc.is_nan(array), None, array).cast(pa.int64())
        except pa.ArrowInvalid:
            raise InputError(f"{source}: group column {name!r} holds fractions") from None
    if pa.types.is_integer(array.type) and (coded := _marked(array, name)):
        return coded
    try:
        whole = _encoded(array)
    except pa.ArrowNotImplementedError:
        raise _no_groups(name, kind, source) from None
    indices = _filled_codes(whole)
    codes = _plain(indices).astype(np.int32, copy=False)
    words, kind = whole.dictionary, whole.dictionary.type
    if words.null_count:
        raise InputError(f"{source}: group column {name!r} has a blank among its dictionary values")
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        texts = np.array([*words.to_pylist(), None], object)[:-1]
        return _merged(codes, Column.text(name, texts))
    if pa.types.is_integer(kind):
        return Coded(
            codes, Column.of(name, "integer", _plain(words.cast(pa.int64())), unit="number")
        )
    if pa.types.is_boolean(kind):
        return Coded(codes, Column.of(name, "flag", _plain(words)))
    if pa.types.is_date32(kind):
        return Coded(codes, Column.of(name, "date", _plain(words.cast(pa.int32()))))
    raise _no_groups(name, kind, source)


def _marked(array: pa.ChunkedArray, name: str) -> Coded | None:
    """Return whole numbers that lie close together as codes; None for others.

    Those that occur are marked among all between the least and the largest, which is quicker
    than to look each of them up, and brings them in order.
    """
    ends = pc.min_max(array).as_py()
    least, most = ends["min"], ends["max"]
    if least is None or most - least >= min(_MOST_MARKED * len(array), 1 << 30) or most >= 1 << 63:
        return None
    values = _unblanked(array, least).astype(np.int64, copy=False)
    found, codes = marked(values, least, most - least + 1)
    if array.null_count:
        codes[~to_numpy(array.is_valid())] = -1
    return Coded(codes, Column.of(name, "integer", found, unit="number"))


def _encoded(array: pa.ChunkedArray) -> pa.DictionaryArray:
    """Return a column as codes into a dictionary, worked out in slices side by side."""
    if pa.types.is_dictionary(array.type):
        return one_array(array.unify_dictionaries())
    slices = min(os.cpu_count() or 1, len(array) // _LEAST_SLICE)
    if slices < 2:
        return one_array(array.dictionary_encode().unify_dictionaries())
    width = -(-len(array) // slices)
    cut = [array.slice(start, width) for start in range(0, len(array), width)]
    parts = at_once([part.dictionary_encode for part in cut])
    chunks = [chunk for part in parts for chunk in part.chunks]
    return one_array(pa.chunked_array(chunks).unify_dictionaries())


def _no_groups(name: str, kind: pa.DataType, source: str) -> InputError:
    return InputError(
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


def _unblanked(array: pa.ChunkedArray, blank: Any) -> NDArray[Any]:
    return to_numpy(pc.fill_null(array, blank) if array.null_count else array)


def _plain(array: pa.Array) -> NDArray[Any]:
    return array.to_numpy(zero_copy_only=False)  # type: ignore[no-any-return]


def _filled_codes(coded: pa.DictionaryArray) -> pa.Array:
    """Return the codes, -1 where blank; some frames number without a sign."""
    codes = coded.indices
    if not coded.null_count:
        return codes
    if not pa.types.is_signed_integer(codes.type):
        codes = codes.cast(pa.int64())
    return codes.fill_null(-1)


def read_codes(array: pa.ChunkedArray, name: str) -> Coded:
    """Return a column of any kind as codes into its distinct values: whole numbers, or text.

    Numbers are written in one way, whatever their type: 5, 5.0 and 5.00 are one value, and so
    are 0.0 and -0.0; NaN is blank.
    """
    kind = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if pa.types.is_null(kind):
        return Coded(np.full(len(array), -1, np.int32), Column.text(name, np.array([], object)))
    if pa.types.is_decimal(kind):  # of narrow ones nothing can be told apart
        array = array.cast(pa.decimal128(38, kind.scale))
    elif pa.types.is_floating(kind):
        array = array.cast(pa.float64())
        array = pc.add(pc.if_else(pc.is_nan(array), None, array), 0.0)
    if pa.types.is_integer(array.type) and (coded := _marked(array, name)):
        return coded
    whole = _encoded(array)
    codes = _plain(_filled_codes(whole)).astype(np.int32, copy=False)
    words = whole.dictionary
    if pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        texts = [_number_text(value) for value in words.to_pylist()]
    elif pa.types.is_integer(kind) and kind != pa.uint64():
        return Coded(codes, Column.of(name, "integer", _plain(words.cast(pa.int64()))))
    else:
        texts = words.cast(pa.string()).to_pylist()
    return _merged(codes, Column.text(name, np.array([*texts, None], object)[:-1]))


def _number_text(value: float | Decimal) -> str:
    """Return a number in words that do not depend on its type.

    >>> _number_text(5.0), _number_text(Decimal("5.00")), _number_text(0.25)
    ('5', '5', '0.25')
    """
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    return f"{value.normalize():f}"
