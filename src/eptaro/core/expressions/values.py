"""Operations on columns of numbers, texts, dates and conditions, blanks kept apart."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import (
    FIRST_DAY,
    LAST_DAY,
    Flags,
    civil_date,
    mondays,
    month_starts,
    weekday,
)
from eptaro.core.calendars.levels import Names, month_number
from eptaro.core.expressions.kinds import FIRST_YEAR, ValueKind
from eptaro.core.expressions.tree import ArithmeticOperator, ComparisonOperator
from eptaro.core.kernels import bigint
from eptaro.core.results.column import Column, of_one_kind, on_one_scale

Array = NDArray[Any]
_MOST_DECIMALS = 18
_COMPARE: dict[ComparisonOperator, Callable[[Any, Any], Any]] = {
    "=": np.equal,
    "!=": np.not_equal,
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
}


class UnfitError(ValueError):
    """An exact number that does not fit into 64 bits or has too many decimals."""


def valid_mask(column: Column) -> Flags | None:
    """Return where a column has values, None where everywhere."""
    return column.filled_mask(slice(None))


def combine_masks(*flags: Flags | None) -> Flags | None:
    """Return where all of several flags are set, None where everywhere."""
    some = [flag for flag in flags if flag is not None]
    truth: Flags | None = None
    for flag in some:
        truth = flag if truth is None else truth & flag
    return truth


def calculate(how: ArithmeticOperator, one: Column, two: Column) -> Column:
    """Return two columns added, subtracted, multiplied, divided, or the remainder.

    Raises `UnfitError` where an exact result cannot be kept.
    """
    one, two = _count_true(one), _count_true(two)
    if "float" in (one.kind, two.kind):
        left, right = _as_floats(one), _as_floats(two)  # a blank is NaN, which spreads
        return _calculate_floats(how, left, right)
    if how == "/":
        return _calculate_floats(how, *on_one_scale(one, two))
    valid = combine_masks(valid_mask(one), valid_mask(two))
    if how == "*":
        return _exact_column(_times(one.data, two.data), one.scale + two.scale, valid)
    one, two = of_one_kind([one, two])
    match how:
        case "+":
            return _exact_column(_add_units(one.data, two.data), one.scale, valid)
        case "-":
            return _exact_column(bigint.subtract(one.data, two.data), one.scale, valid)
        case _:
            zero = np.asarray(two.data == 0)
            left, right = one.data, np.where(zero, 1, two.data)
            if object not in (left.dtype, right.dtype):
                remainders = np.fmod(left, right)
            else:
                left, right = bigint.widen(left), bigint.widen(right)
                remainders = np.sign(left) * (abs(left) % abs(right))
            return _exact_column(
                np.asarray(remainders),
                one.scale,
                combine_masks(valid, ~zero if zero.any() else None),
            )


def negate(column: Column) -> Column:
    """Return a column with its sign turned."""
    return calculate("-", Column.of("", "integer", [0]), column)


def compare_numbers(
    how: ComparisonOperator, one: Column, two: Column
) -> tuple[Array, Flags | None]:
    """Return how numbers compare, and where there are two."""
    one, two = _count_true(one), _count_true(two)
    valid = combine_masks(valid_mask(one), valid_mask(two))
    if "float" in (one.kind, two.kind):
        return np.asarray(_COMPARE[how](one.numbers(), two.numbers())), valid
    one, two = of_one_kind([one, two])
    return np.asarray(_COMPARE[how](one.data, two.data), bool), valid


def compare_arrays(how: ComparisonOperator, left: Array, right: Array) -> Array:
    """Return how plain arrays compare. The arrays are `(n,)` or `(1,)`."""
    return np.asarray(_COMPARE[how](left, right))


def round_decimals(column: Column, places: int) -> Column:
    """Return numbers with so many decimals, halves away from zero."""
    column = _count_true(column)
    if column.kind == "float":
        unit = 10.0**places
        with np.errstate(over="ignore", invalid="ignore"):
            rounded = np.copysign(np.floor(np.abs(column.data) * unit + 0.5) / unit, column.data)
        return Column.of(
            "", "float", np.where(np.isinf(rounded), column.data, rounded), column.valid
        )
    if places >= column.scale:
        return column
    unit = 10 ** (column.scale - places)
    half = np.abs(bigint.widen(column.data)) * 2 + unit
    units = np.sign(bigint.widen(column.data)) * (half // (2 * unit))
    if places < 0:
        return _exact_column(bigint.narrow_integers(units * 10**-places), 0, column.valid)
    return _exact_column(bigint.narrow_integers(units), places, column.valid)


def floor_or_ceil(column: Column, *, up: bool) -> Column:
    """Return the whole numbers below or above."""
    column = _count_true(column)
    if column.kind == "float":
        return Column.of("", "float", (np.ceil if up else np.floor)(column.data), column.valid)
    unit = 10**column.scale
    rounded = -(-column.data // unit) if up else column.data // unit
    return _exact_column(np.asarray(rounded), 0, column.valid)


def absolute(column: Column) -> Column:
    """Return numbers without their sign."""
    column = _count_true(column)
    if column.kind == "float":
        return Column.of("", "float", np.abs(column.data), column.valid)
    least = column.data.dtype != object and bigint.largest_absolute(column.data) == bigint.ROOM
    data = abs(bigint.widen(column.data)) if least else abs(column.data)
    return _exact_column(data, column.scale, column.valid)


def _count_true(column: Column) -> Column:
    """Return a column of numbers; what is true counts as 1."""
    if column.kind != "flag":
        return column
    return Column.of("", "integer", column.data.astype(np.int64), column.valid)


def _as_floats(column: Column) -> Array:
    return column.data if column.kind == "float" and column.valid is None else column.numbers()


def _calculate_floats(how: ArithmeticOperator, left: Array, right: Array) -> Column:
    """Calculate on two arrays, each `(n,)` or `(1,)`; what divides by zero is not a number."""
    with np.errstate(all="ignore"):
        match how:
            case "+":
                floats = left + right
            case "-":
                floats = left - right
            case "*":
                floats = left * right
            case "/":
                floats = np.where(right == 0, np.nan, left / np.where(right == 0, 1.0, right))
            case _:
                floats = np.where(
                    right == 0, np.nan, np.fmod(left, np.where(right == 0, 1.0, right))
                )
    return Column.of("", "float", floats)


def _add_units(left: Array, right: Array) -> Array:
    """Return exact sums of two arrays of whole units, each `(n,)` or `(1,)`."""
    if (
        object not in (left.dtype, right.dtype)
        and bigint.largest_absolute(left) + bigint.largest_absolute(right) < bigint.ROOM
    ):
        return np.asarray(_in_64_bits(left) + _in_64_bits(right))
    return bigint.narrow_integers(bigint.widen(left) + bigint.widen(right))


def _times(left: Array, right: Array) -> Array:
    """Return exact products of two arrays of whole units, each `(n,)` or `(1,)`."""
    if (
        object not in (left.dtype, right.dtype)
        and bigint.largest_absolute(left) * bigint.largest_absolute(right) < bigint.ROOM
    ):
        return np.asarray(_in_64_bits(left) * _in_64_bits(right))
    return bigint.narrow_integers(bigint.widen(left) * bigint.widen(right))


def _in_64_bits(values: Array) -> Array:
    """Return whole numbers `(n,)` as int64, without a copy where they are."""
    return values.astype(np.int64, copy=False)


def _exact_column(data: Array, scale: int, valid: Flags | None) -> Column:
    """Return whole units as a column; what is blank may hold anything.

    `data` and `valid` are `(n,)` or `(1,)`.
    """
    if data.dtype == object:
        filled = data if valid is None else np.where(valid, data, 0)
        data = bigint.narrow_integers(np.asarray(filled, object))
        if data.dtype == object:
            large = max(data.tolist(), key=abs)
            raise UnfitError(f"{large}E-{scale}")
    if scale > _MOST_DECIMALS:
        raise UnfitError(f"{scale} decimals")
    if valid is not None:
        valid = np.broadcast_to(valid, np.broadcast_shapes(valid.shape, data.shape))
        data = np.broadcast_to(data, valid.shape)
    return Column.of("", "decimal" if scale else "integer", data, valid, scale=scale)


def text_of(value: str) -> Column:
    """Return one text as a column of one row."""
    return Column.text("", np.array([value, None], object)[:1])


def distinct_texts_of(column: Column) -> list[str]:
    """Return the distinct texts of a column; one of another kind has none."""
    if column.kind != "text" or column.choices is None:
        return []
    return [str(word) for word in column.choices.tolist()]


def codes_of(column: Column) -> Array:
    """Return the code of each row's text; -1 for blank."""
    return column.data if column.kind == "text" else np.full(len(column), -1, np.int32)


def of_words(words: Sequence[str], codes: Array) -> Column:
    """Return the column of texts that codes represent, each text once.

    `codes` is `(n,)`, -1 where blank.
    """
    places: dict[str, int] = {}
    target = [places.setdefault(word, len(places)) for word in words]
    numbers = np.array([*target, -1], np.int32)
    return Column.text("", np.array([*places, None], object)[:-1], numbers[codes])


def map_texts(column: Column, change: Callable[[str], str]) -> Column:
    """Return texts that are each changed."""
    return of_words([change(word) for word in distinct_texts_of(column)], codes_of(column))


def text_property(column: Column, test: Callable[[str], Any], dtype: Any) -> tuple[Array, Array]:
    """Return the metadata of each text, and where there is one."""
    answers = np.array([*(test(word) for word in distinct_texts_of(column)), 0], dtype)
    codes = codes_of(column)
    return answers[codes], codes >= 0


def rank_texts(*columns: Column) -> list[Array]:
    """Return the place of each text of several columns among all of them in order of letters."""
    every = sorted({word for column in columns for word in distinct_texts_of(column)})
    place = {word: at for at, word in enumerate(every)}
    ranks_of = []
    for column in columns:
        numbers = np.array([*(place[word] for word in distinct_texts_of(column)), -1], np.int64)
        ranks_of.append(numbers[codes_of(column)])
    return ranks_of


def make_dates(year: Column, month: Column, day: Column) -> Column:
    """Return the dates of three numbers; a year of two digits, and what is not a day of the
    calendar, give a blank.
    """
    y, m, d = (part.numbers() for part in (year, month, day))
    valid = combine_masks(*(valid_mask(part) for part in (year, month, day)))
    with np.errstate(invalid="ignore"):
        good = (y >= FIRST_YEAR) & (y <= 9999) & (m >= 1) & (m <= 12) & (d >= 1) & (d <= 31)
        good &= (y % 1 == 0) & (m % 1 == 0) & (d % 1 == 0)
    years, months, days = (
        np.where(good, part, 1).astype(np.int64) for part in np.broadcast_arrays(y, m, d)
    )
    months += (years - 1970) * 12 - 1
    first = month_starts(months)
    good &= days <= month_starts(months + 1) - first
    good = good if valid is None else good & valid
    return Column.of("", "date", np.where(good, first + days - 1, 0), good)


def make_weeks(year: Column, week: Column) -> Column:
    """Return the Mondays of the weeks of years (ISO 8601); blank where there is no such week, as in
    years of two digits.
    """
    y, w = np.broadcast_arrays(year.numbers(), week.numbers())
    valid = combine_masks(valid_mask(year), valid_mask(week))
    with np.errstate(invalid="ignore"):
        good = (y >= FIRST_YEAR) & (y <= 9999) & (w >= 1) & (w <= 53) & (y % 1 == 0) & (w % 1 == 0)
    years, weeks = (np.where(good, part, 1).astype(np.int64) for part in (y, w))
    days, exists = mondays(years, weeks)
    good &= exists & (days <= LAST_DAY)
    good = good if valid is None else good & valid
    return Column.of("", "date", np.where(good, days, 0), good)


def month_numbers(column: Column) -> Column:
    """Return the numbers of months from their English names; blank for other words."""
    words = [month_number(word) or 0 for word in distinct_texts_of(column)]
    numbers = np.array([*words, 0], np.int64)[codes_of(column)]
    return Column.of("", "integer", numbers, numbers > 0)


def shift_dates(column: Column, days: Column) -> Column:
    """Return dates moved by whole numbers of days; blank where there is no such day."""
    n = days.numbers()
    # NaN and infinities are no whole numbers; beyond the calendar a sum could overflow.
    whole = np.isfinite(n) & (np.abs(n) <= LAST_DAY - FIRST_DAY) & (np.mod(n, 1) == 0)
    moved = column.data.astype(np.int64) + np.where(whole, n, 0).astype(np.int64)
    good = whole & (moved >= FIRST_DAY) & (moved <= LAST_DAY)
    valid = combine_masks(valid_mask(column), valid_mask(days))
    good = good if valid is None else good & valid
    return Column.of("", "date", np.where(good, moved, 0), good)


def part_of_date(column: Column, which: str) -> Column:
    """Return the year, month, day or weekday of dates."""
    days = column.data.astype(np.int64)
    if which == "weekday":
        codes = weekday(days).astype(np.int32)
        codes = codes if column.valid is None else np.where(column.valid, codes, -1)
        return Column.text("", np.array([*Names().weekdays], object), codes)
    numbers = dict(zip(("year", "month", "day"), civil_date(days), strict=True))[which]
    return Column.of("", "integer", numbers, column.valid)


def assign_bands(column: Column, edges: Sequence[Decimal]) -> Column:
    """Return the band of each number: `under 0`, `0 to 50` (below 50), ..., `100 and over`."""
    edge_texts = [f"{edge:f}" for edge in edges]
    between = [f"{one} to {two}" for one, two in pairwise(edge_texts)]
    labels = [f"under {edge_texts[0]}", *between, f"{edge_texts[-1]} and over"]
    codes = np.zeros(len(column), np.int32)
    for edge in edges:
        codes += compare_numbers(">=", column, number_of(edge))[0]
    valid = valid_mask(column)
    codes = codes if valid is None else np.where(valid, codes, -1).astype(np.int32)
    return Column.text("", np.array(labels, object), codes)


def number_of(value: Decimal) -> Column:
    """Return one exact number as a column of one row."""
    sign, digits, exponent = value.as_tuple()
    assert isinstance(exponent, int)
    units = int("".join(map(str, digits))) * (-1 if sign else 1)
    scale = max(-exponent, 0)
    units *= 10 ** max(exponent, 0)
    kind = "decimal" if scale else "integer"
    return Column.of("", kind, np.array([units], object), scale=scale)  # type: ignore[arg-type]


def of_text(name: str, column: Column) -> Column:
    """Return what `lower`, `upper`, `trim` or `length` make of texts."""
    match name:
        case "lower":
            return map_texts(column, str.lower)
        case "upper":
            return map_texts(column, str.upper)
        case "trim":
            return map_texts(column, str.strip)
        case _:
            return Column.of("", "integer", *text_property(column, len, np.int64))


def blank_of(kind: ValueKind, rows: int) -> Column:
    """Return a column of a kind without any value."""
    none = np.zeros(rows, bool)
    match kind:
        case ValueKind.TEXT:
            return of_words([], np.full(rows, -1))
        case ValueKind.DATE:
            return Column.of("", "date", np.zeros(rows, np.int32), none)
        case ValueKind.FLAG:
            return Column.of("", "flag", none, none)
        case _:
            return Column.of("", "integer", np.zeros(rows, np.int64), none)


def one_blank(column: Column) -> Column:
    """Return one blank of a column's kind."""
    if column.kind == "text":
        return blank_of(ValueKind.TEXT, 1)
    none = np.zeros(1, bool)
    return Column.of(column.name, column.kind, np.zeros(1, np.int64), none, scale=column.scale)


Truth: TypeAlias = tuple[NDArray[Any], Flags | None]  # what is true, and where that is known


def any_of(left: Truth, right: Truth) -> Truth:
    """Return where one of two conditions is true: known where one is true or both are known."""
    true = np.asarray(_known_true(left) | _known_true(right))
    if left[1] is None and right[1] is None:
        return true, None
    known_masks = [np.ones(1, bool) if valid is None else valid for _, valid in (left, right)]
    return true, np.asarray(true | (known_masks[0] & known_masks[1]))


def _known_true(truth: Truth) -> NDArray[Any]:
    """Return where a condition is known to be true."""
    data, valid = truth
    return np.asarray(data if valid is None else data & valid)


def negate_condition(truth: Truth) -> Truth:
    """Return a condition turned round; what is not known stays so."""
    data, valid = truth
    return ~data, valid


def broadcast_flags(valid: Flags | None, size: int) -> Flags | None:
    """Return flags stretched to so many rows. `valid` is `(1,)` or `(size,)`."""
    return None if valid is None else np.broadcast_to(valid, (size,)).copy()
