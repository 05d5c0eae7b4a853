"""Arrow arrays as codes into distinct values: to group by, and to count; and what may be wrong with
groups that are called so.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from decimal import Decimal

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.groups import Categorical
from eptaro.core.kernels.factorize import factorize_narrow, occur_early
from eptaro.core.results.column import Column
from eptaro.errors import InputError, show_option
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.files.chunks import encode_dictionary, fill_blanks, plain, to_numpy

_MOST_MARKED = 8  # whole numbers between the least and the largest, for each row
_FARTHEST = 1 << 40  # from zero that whole numbers are used as they are: cells are counted from it


def read_groups(array: pa.ChunkedArray, name: str, source: str) -> Categorical:
    """Return a group column as codes into its distinct values, -1 where blank."""
    kind = array.type
    if pa.types.is_null(kind):
        return Categorical(
            np.full(len(array), -1, np.int32), Column.text(name, np.array([], object))
        )
    if pa.types.is_floating(kind):
        try:  # a frame with blanks often holds whole numbers as floats
            array = pc.if_else(pc.is_nan(array), None, array).cast(pa.int64())
        except pa.ArrowInvalid:
            raise InputError(f"{source}: group column {name!r} holds fractions") from None
    if pa.types.is_integer(array.type) and (coded := _mark_codes(array, name)):
        return coded
    try:
        whole = encode_dictionary(array, ordered=True)
    except pa.ArrowNotImplementedError:
        raise _no_groups(name, kind, source) from None
    indices = _fill_codes(whole)
    codes = plain(indices).astype(np.int32, copy=False)
    words, kind = whole.dictionary, whole.dictionary.type
    if words.null_count:
        raise InputError(f"{source}: group column {name!r} has a blank among its dictionary values")
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        choices = Column.text(name, np.array([*words.to_pylist(), None], object)[:-1])
        once = pc.count_distinct(words).as_py() == len(words)
        if once:
            return Categorical(codes, choices, blanks=whole.null_count > 0)
        return _merge_duplicates(codes, choices)
    if pa.types.is_integer(kind):
        return Categorical(
            codes, Column.of(name, "integer", plain(words.cast(pa.int64())), unit="number")
        )
    if pa.types.is_boolean(kind):
        return Categorical(codes, Column.of(name, "flag", plain(words)))
    if pa.types.is_date32(kind):
        return Categorical(codes, Column.of(name, "date", plain(words.cast(pa.int32()))))
    raise _no_groups(name, kind, source)


def _mark_codes(array: pa.ChunkedArray, name: str) -> Categorical | None:
    """Return whole numbers that lie close together as codes; None for others.

    Those that occur are marked among all between the least and the largest, which is quicker
    than to look each of them up, and brings them in order.
    """
    ends = pc.min_max(array).as_py()
    least, most = ends["min"], ends["max"]
    if least is None or most - least >= min(_MOST_MARKED * len(array), 1 << 30) or most >= 1 << 63:
        return None
    values = fill_blanks(array, least)
    values = values if values.dtype == np.int32 else values.astype(np.int64, copy=False)
    span = most - least + 1
    near = least > -_FARTHEST and most < _FARTHEST
    if not array.null_count and near and occur_early(values, least, span):
        every = np.arange(least, most + 1)
        return Categorical(None, Column.of(name, "integer", every, unit="number"), values)
    values = values.astype(np.int64, copy=False)
    unique, codes = factorize_narrow(values, least, span)
    if array.null_count:
        codes[~to_numpy(array.is_valid())] = -1
    return Categorical(codes, Column.of(name, "integer", unique, unit="number"))


def _no_groups(name: str, kind: pa.DataType, source: str) -> InputError:
    return InputError(
        f"{source}: group column {name!r} holds {kind}; "
        f"group by text, whole numbers, dates or flags"
    )


def _merge_duplicates(codes: NDArray[np.int32], choices: Column) -> Categorical:
    """Return the codes with texts that are in the dictionary twice made one."""
    texts = choices.to_list()
    places: dict[str, int] = {}
    target = np.array([places.setdefault(text, len(places)) for text in texts] + [-1], np.int32)
    if len(places) == len(texts):
        return Categorical(codes, choices)
    return Categorical(
        target[codes], Column.text(choices.name, np.array([*places, None], object)[:-1])
    )


def _fill_codes(coded: pa.DictionaryArray) -> pa.Array:
    """Return the codes, -1 where blank; some frames number without a sign."""
    codes = coded.indices
    if not coded.null_count:
        return codes
    if not pa.types.is_signed_integer(codes.type):
        codes = codes.cast(pa.int64())
    return codes.fill_null(-1)


def read_codes(array: pa.ChunkedArray, name: str) -> Categorical:
    """Return a column of any kind as codes into its distinct values: whole numbers, or text.

    Numbers are written in one way, whatever their type: 5, 5.0 and 5.00 are one value, and so
    are 0.0 and -0.0; NaN is blank.
    """
    kind = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if pa.types.is_null(kind):
        return Categorical(
            np.full(len(array), -1, np.int32), Column.text(name, np.array([], object))
        )
    if pa.types.is_decimal(kind):  # of narrow ones nothing can be distinguished
        array = array.cast(pa.decimal128(38, kind.scale))
    elif pa.types.is_floating(kind):
        array = array.cast(pa.float64())
        array = pc.add(pc.if_else(pc.is_nan(array), None, array), 0.0)
    if pa.types.is_integer(array.type) and (coded := _mark_codes(array, name)):
        return coded
    whole = encode_dictionary(array)
    codes = plain(_fill_codes(whole)).astype(np.int32, copy=False)
    words = whole.dictionary
    if pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        texts = [_number_text(value) for value in words.to_pylist()]
    elif pa.types.is_integer(kind) and kind != pa.uint64():
        return Categorical(codes, Column.of(name, "integer", plain(words.cast(pa.int64()))))
    else:
        texts = words.cast(pa.string()).to_pylist()
    return _merge_duplicates(codes, Column.text(name, np.array([*texts, None], object)[:-1]))


def _number_text(value: float | Decimal) -> str:
    """Return a number in words that do not depend on its type.

    >>> _number_text(5.0), _number_text(Decimal("5.00")), _number_text(0.25)
    ('5', '5', '0.25')
    """
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    return f"{value.normalize():f}"


_TOTAL = re.compile(r"(.*[\s_-])?(grand[\s_-]?|sub[\s_-]?)?totals?", re.DOTALL)
_TOTALS = frozenset(("gesamt", "gesamtsumme", "summe", "insgesamt", "totaal", "totale", "razem"))
_SHOWN = 3  # groups
MOST_NAMED = 1_000  # groups of a column whose names are looked at
_CURRENCY = re.compile("[A-Z]{3}")


def names_total(value: object) -> bool:
    """Return whether a value of a group column is called a total.

    >>> [names_total(value) for value in ("Grand Total", "North total", "Totally", 5)]
    [True, True, False, False]
    """
    word = value.strip().casefold() if isinstance(value, str) else ""
    return bool(_TOTAL.fullmatch(word)) or word in _TOTALS


def are_currencies(values: Collection[object]) -> bool:
    """Return whether the values of a group column are the codes of several currencies.

    >>> [are_currencies(codes) for codes in (["EUR", "USD", "TRY"], ["EUR"], ["SEA", "AIR"])]
    [True, False, False]
    """
    codes = [value for value in values if isinstance(value, str) and _CURRENCY.fullmatch(value)]
    if not 1 < len(codes) == len(values):
        return False
    from eptaro.inputs.columns.numbers import MONEY

    return 2 * sum(code in MONEY for code in codes) >= len(codes)


def _written_alike(values: Collection[object]) -> list[str]:
    """Return the first values, in order, that differ in case or in the spaces around them alone.

    >>> _written_alike(["North", "South", "north "])
    ['North', 'north ']
    """
    alike: dict[str, list[str]] = {}
    for value in sorted(value for value in values if isinstance(value, str)):
        alike.setdefault(value.strip().lower(), []).append(value)
    return next((texts for texts in alike.values() if len(texts) > 1), [])


def doubts_of_groups(column: str, values: Collection[object]) -> Iterator[tuple[str, str]]:
    """Yield why the groups of a column may not add up, in a word and in a sentence with the cure.

    >>> for word, text in doubts_of_groups("store", ["North", "Total"]):
    ...     print(text)
    store: 'Total' may add up others, which then count twice; leave it out: where="store != 'Total'"
    """
    if totals := sorted(str(value) for value in values if names_total(value)):
        shown = ", ".join(map(repr, totals[:_SHOWN]))
        shown += f" and {len(totals) - _SHOWN:,} more" if len(totals) > _SHOWN else ""
        text = f"{shown} may add up others, which then count twice; leave "
        text += f"{'it' if len(totals) == 1 else 'them'} out: {_cure_of_totals(column, totals)}"
        yield "perhaps totals", f"{column}: {text}"
    if alike := _written_alike(values):
        lowered = len({value.strip() for value in alike}) > 1
        trimmed = any(value != value.strip() for value in alike)
        what = " and ".join(["case"] * lowered + ["spaces"] * trimmed)
        cure = _cure_of_writing(column, lowered=lowered, trimmed=trimmed)
        shown = _listed([*map(repr, alike)])
        yield "perhaps one group", f"{column}: {shown} differ in {what} alone; to join them: {cure}"
    if are_currencies(values):
        by = show_option("by", column)
        codes = _listed(sorted(map(str, values)))
        text = f"amounts in {codes} do not add up; ask {by}, or convert them by a lookup of rates"
        yield "currencies", f"{column}: {text}"


def _listed(words: list[str]) -> str:
    return f"{', '.join(words[:-1])} and {words[-1]}"


def _cure_of_totals(column: str, totals: list[str]) -> str:
    """Return the condition that leaves totals out."""
    from eptaro.core.expressions.parser import quoted_name

    texts = ["'" + value.replace("'", "''") + "'" for value in totals]
    condition = " and ".join(f"{quoted_name(column)} != {text}" for text in texts)
    if len(totals) > _SHOWN and all(value.lower().endswith("total") for value in totals):
        condition = f"not ends(lower({quoted_name(column)}), 'total')"
    return show_option("where", condition)


def _cure_of_writing(column: str, *, lowered: bool, trimmed: bool) -> str:
    """Return the calculated group that has no capitals, or no spaces around it."""
    from eptaro.core.expressions.parser import quoted_name

    inner = f"trim({quoted_name(column)})" if trimmed else quoted_name(column)
    inner = f"lower({inner})" if lowered else inner
    return show_option("by", f"{re.sub(r'[^A-Za-z0-9]+', '_', column)}={inner}")
