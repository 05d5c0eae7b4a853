"""Arrow arrays as columns of numbers to measure."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.expressions.tree import Name
from eptaro.core.kernels.reading import RowMask, exact_units, narrow_words
from eptaro.core.results.column import Column
from eptaro.errors import MeasureError, spell_option
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.files.chunks import fill_blanks, one_array, to_numpy
from eptaro.inputs.sources import Source
from eptaro.record import record


@record
class RowOrigin:
    """Rows of a source from the `first` on, or those of them that are kept.

    Places are counted from 0, and rows in messages from 1.
    """

    source: Source
    first: int = 0
    keeping: RowMask | None = None

    @property
    def places(self) -> Ints | None:
        """The place of each in the source, None where no row was left out."""
        return None if self.keeping is None else self.keeping.places + self.first

    def number(self, row: int) -> int:
        """Return the number that one of the rows has in the input, from 1."""
        place = row if self.keeping is None else int(self.keeping.places[row])
        place += self.first
        return self.source.row_number(place)

    def describe_row(self, row: int) -> str:
        """Return the source and one of the rows as errors name them."""
        return f"{self.source.name}: row {self.number(row):,}"

    def raw_text(self, name: str, count: int) -> pa.ChunkedArray:
        """Return a column of these rows as it was written."""
        texts, places = self.source.raw_text(name), self.places
        return texts.slice(self.first, count) if places is None else texts.take(pa.array(places))


_MOST_DECIMALS = 6
_MOST_DIGITS = 38  # of a decimal
_MOST_PLACES = 18  # of a decimal in 64 bits
_MOST_OF_RATE = 9  # decimals, beside which a product has room for cents and nine digits before
_SHOWN = 60  # digits of a long number
_EXACT = 2**53
_ALL = np.empty(0, np.uint8)


def read_filled(array: pa.ChunkedArray, name: str) -> Column:
    """Return a column that only says which rows are filled, whatever it holds."""
    valid = None
    if array.null_count:
        valid = to_numpy(array.is_valid())
    if pa.types.is_floating(array.type):
        return Column.of(name, "float", fill_blanks(array, 0.0), valid)
    return Column.of(name, "flag", np.zeros(len(array), bool), valid)


def read_numbers(array: pa.ChunkedArray, name: str, origin: RowOrigin) -> Column:
    """Return a numeric column: integers, decimals (exact) or floats.

    Numbers of a text source are decimals by nature: they become floats only where they
    have more decimals than can be kept.
    """
    kind, source = array.type, origin.source
    if pa.types.is_dictionary(kind):
        array, kind = pc.cast(array, kind.value_type), kind.value_type
    valid = None
    if array.null_count:
        valid = to_numpy(array.is_valid())
    is_text = pa.types.is_string(kind) or pa.types.is_large_string(kind)
    if pa.types.is_null(kind) or (is_text and array.null_count == len(array)):
        return Column.of(name, "integer", np.zeros(len(array), np.int64), valid)
    if pa.types.is_integer(kind):
        try:
            return Column.of(name, "integer", fill_blanks(pc.cast(array, pa.int64()), 0), valid)
        except pa.ArrowInvalid:
            raise MeasureError(f"{source.name}: {name!r} holds integers over 64 bits") from None
    if pa.types.is_floating(kind):
        data = fill_blanks(pc.cast(array, pa.float64()), 0.0)
        if not source.of_text:
            return Column.of(name, "float", data, valid)
        _check_finite(data, name, origin)
        if exact := _recover_decimals(data, name, valid):
            return exact
        if np.abs(data).max(initial=0) >= _EXACT / 10**_MOST_DECIMALS and (
            long := _parse_long_numbers(origin.raw_text(name, len(array)), name, origin)
        ):
            return _decimals(long, name, origin, valid, data)
        return Column.of(name, "float", data, valid)
    if pa.types.is_decimal(kind):
        floats = pc.cast(array, pa.float64()) if source.of_text or source.has_rules else None
        floats_exact = None if floats is None else fill_blanks(floats, 0.0)
        return _decimals(array, name, origin, valid, floats_exact)
    raise MeasureError(f"{source.name}: {_not_numbers(array, name, origin)}")


def _recover_decimals(data: NDArray[np.float64], name: str, valid: Any) -> Column | None:
    """Return floats that were parsed from decimal text as exact decimals, if they are.

    A decimal of up to 15 digits and its nearest float determine each other, so where
    k / 10**s gives back the very float, the text said k units of 10**-s.
    """
    data = np.ascontiguousarray(data)
    for scale in (0, *range(2, _MOST_DECIMALS + 1)):  # money has two decimals, not one
        if (units_of := exact_units(data, 10.0**scale, float(_EXACT))) is not None:
            return Column.of(name, "decimal" if scale else "integer", units_of, valid, scale=scale)
    return None


def _check_finite(data: NDArray[np.float64], name: str, origin: RowOrigin) -> None:
    """Raise `MeasureError` for a text that Arrow takes for a number and people do not, as `nan`,
    and for a number beyond the floats.
    """
    odd = np.flatnonzero(~np.isfinite(data))
    if len(odd):
        row = int(odd[0])
        text = origin.raw_text(name, len(data))[row].as_py()
        from eptaro.inputs.columns.numbers import cure

        raise MeasureError(
            f"{origin.describe_row(row)} of {name!r}: {text!r} is not a number{cure(text)}"
        )


def whole_digits(texts: Any) -> Any:
    """Return how many digits plain numbers have before their decimal point, zeros at their
    beginning left out.
    """
    return pc.utf8_length(pc.replace_substring_regex(texts, r"^[-+]?0*|\..*$", ""))


def _parse_long_numbers(
    texts: pa.ChunkedArray, name: str, origin: RowOrigin
) -> pa.ChunkedArray | None:
    """Return numbers too long for floats as decimals, read from their digits; None for numbers with
    exponents, or with more digits than any decimal holds.
    """
    texts, mark = pc.utf8_trim_whitespace(texts), origin.source.decimal
    texts = pc.replace_substring(texts, mark, ".") if mark != "." else texts
    places = pc.utf8_length(pc.replace_substring_regex(texts, r"^[^.]*\.?", ""))
    digits = pc.max(pc.utf8_length(pc.replace_substring_regex(texts, r"^[-+]?0*|\.", ""))).as_py()
    scale = pc.max(places).as_py() or 0
    plain = pc.invert(pc.match_substring_regex(texts, "[eE]"))
    too_long = pc.fill_null(pc.and_(plain, pc.greater(whole_digits(texts), _MOST_DIGITS)), False)
    row = pc.index(too_long, True).as_py()
    if row >= 0:
        text = texts[row].as_py()
        excerpt = text if len(text) <= _SHOWN else f"{text[:_SHOWN]}... ({len(text):,} digits)"
        raise MeasureError(
            f"{origin.describe_row(row)} of {name!r}: {excerpt} does not fit into 64 bits; write "
            f"such numbers with an exponent, and they are floats"
        )
    if pc.any(pc.match_substring_regex(texts, "[eE]")).as_py() or (digits or 0) > _MOST_DIGITS:
        return None
    try:
        return texts.cast(pa.decimal128(_MOST_DIGITS, scale))
    except pa.ArrowInvalid:
        return None


def _decimals(
    array: pa.ChunkedArray, name: str, origin: RowOrigin, valid: Any, floats: Any = None
) -> Column:
    """Return exact decimals; where these do not fit, the `floats` that they are as well, if there
    are any.

    Raises `MeasureError` where there are none.
    """
    scale = array.type.scale
    if scale > _MOST_PLACES and floats is not None:
        return Column.of(name, "float", floats, valid)
    if not 0 <= scale <= _MOST_PLACES:
        raise MeasureError(f"{origin.source.name}: {name!r} has {scale} decimals; 0 to 18 fit")
    flat = one_array(array)
    if not pa.types.is_decimal128(flat.type):
        flat = flat.cast(pa.decimal128(38, scale))
    filled = _ALL if valid is None else valid.view(np.uint8)
    data, wrong = _narrow_decimals(flat, filled)
    if wrong >= 0:  # zeros at the end of all of them need not be kept
        flat = _reduce_scale(flat)
        scale = flat.type.scale
        data, wrong = _narrow_decimals(flat, filled)
    if wrong >= 0 and floats is not None and scale:
        return Column.of(name, "float", floats, valid)
    if wrong >= 0:
        raise MeasureError(
            f"{origin.describe_row(wrong)} of {name!r}: {flat[wrong].as_py()} does not fit into 64 "
            f"bits at {scale} decimals; store the column with fewer decimals"
        )
    return Column.of(name, "decimal", data, valid, scale=scale)


def exact_or_floats(decimals: pa.Array) -> pa.Array:
    """Return decimals as they are, or as floats where they have more decimals than an exact product
    has room for, as rates do that were divided out.

    >>> exact_or_floats(pa.array(["281", "0.14285714285714285"]).cast(pa.decimal128(38, 17))).type
    DataType(double)
    """
    reduced = _reduce_scale(decimals)
    filled = to_numpy(pa.chunked_array([decimals.is_valid()])).view(np.uint8)
    if reduced.type.scale <= _MOST_OF_RATE and _narrow_decimals(reduced, filled)[1] < 0:
        return decimals
    return decimals.cast(pa.float64()) if reduced.type.scale else decimals


def _narrow_decimals(flat: pa.Array, filled: NDArray[np.uint8]) -> tuple[NDArray[np.int64], int]:
    """Return decimals in 64 bits, and the first row that does not fit, or -1."""
    words = np.frombuffer(flat.buffers()[1] or b"", np.int64).reshape(-1, 2)
    return narrow_words(words[flat.offset : flat.offset + len(flat)], filled)


def _reduce_scale(flat: pa.Array) -> pa.Array:
    """Return decimals with the fewest decimals that hold all of them."""
    for scale in range(flat.type.scale):
        try:
            return flat.cast(pa.decimal128(38, scale))
        except pa.ArrowInvalid:  # digits would be lost
            continue
    return flat


def _not_numbers(array: pa.ChunkedArray, name: str, origin: RowOrigin) -> str:
    if pa.types.is_string(array.type) or pa.types.is_large_string(array.type):
        numeric = pc.match_substring_regex(array, r"^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$")
        row = pc.index(pc.fill_null(numeric, True), False).as_py()
        if row >= 0:
            from eptaro.inputs.columns.numbers import cure

            text = array[row].as_py()
            return f"row {origin.number(row):,} of {name!r}: {text!r} is not a number{cure(text)}"
        option = spell_option("numbers='infer'", "--numbers infer")
        return f"{name!r} holds numbers as text; use {option} to read them"
    if pa.types.is_boolean(array.type):
        counted = f"count(where {Name(name)})"
        return f"{name!r} holds true and false, not numbers; {counted} counts what is true"
    if pa.types.is_duration(array.type):
        return (
            f"{name!r} holds amounts of time, not numbers; give them as a number of hours, or days"
        )
    return f"{name!r} holds {array.type}, not numbers"
