"""The date column of a source: which it is, and the rules that all its values suggest."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.grain import Grain
from eptaro.errors import DateError, EptaroError, InputError, NoRowsError, spell_option
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.reading import is_text, looks_like_dates, read_dates, settled_start
from eptaro.inputs.dates.texts import THREE_NUMBERS
from eptaro.inputs.files.chunks import first_rows
from eptaro.inputs.sources import ColumnRequest, Source
from eptaro.option import setting
from eptaro.record import Record, record
from eptaro.rules import DateRules, Order


def infer_order(column: pa.ChunkedArray, rules: DateRules, name: str) -> tuple[DateRules, str]:
    """Return rules with `order="infer"` decided, and the evidence in words.

    Raises `DateError` where the column does not decide, showing two values that could be
    read both ways, or where it speaks for both orders.
    """
    if rules.order != "infer":
        return rules, ""
    if not is_text(column.type):
        from eptaro.inputs.dates.numbers import digits_in_order  # most dates are none

        digits = digits_in_order(column, rules) if _is_number(column.type) else None
        if digits is None:
            return replace(rules, order=None), f"{name} holds {column.type}"
        column = digits
    evidence = Evidence.of(column)
    if not evidence.three and evidence.digits:
        return _order_of_digits(evidence.digits, rules, name)
    if not evidence.three:
        order: Order = "ymd" if evidence.plain else "dmy" if evidence.words else "mdy"
        return replace(rules, order=order), f"no value of {name} has two numbers to swap"
    if evidence.day_first and evidence.month_first:
        cure = spell_option("order='dmy' or order='mdy'", "--order dmy or --order mdy")
        raise DateError(
            f"{name!r} holds both orders: {evidence.day_first[0]!r} can only be day first, "
            f"{evidence.month_first[0]!r} only month first ({len(evidence.day_first):,} and "
            f"{len(evidence.month_first):,} distinct values); use "
            f"{cure} and reject the others"
        )
    if evidence.day_first:
        return replace(rules, order="dmy"), f"{evidence.day_first[0]!r} can only be day first"
    if evidence.month_first:
        return replace(rules, order="mdy"), f"{evidence.month_first[0]!r} can only be month first"
    raise DateError(
        f"{name!r} could be read day first or month first: "
        f"{' and '.join(map(repr, evidence.three[:2]))} fit both, and no value has a number over "
        f"12; use {setting(DateRules, 'order', 'dmy')} or {setting(DateRules, 'order', 'mdy')}"
    )


_ORDERS: tuple[Order, ...] = ("dmy", "mdy", "ymd")
PIVOT = 49  # that is proposed: two-digit years up to it are 2000s


def _is_number(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind))


def _order_of_digits(texts: list[str], rules: DateRules, name: str) -> tuple[DateRules, str]:
    """Return rules with the order of dates that are digits without separators, and the evidence.

    Raises `DateError` where the digits do not decide, or speak for several orders.
    """
    column = pa.chunked_array([pa.array(texts, pa.string())])
    pivot = PIVOT if rules.pivot is None else rules.pivot  # it does not decide the order
    readable = []
    for order in _ORDERS:
        parsed = read_dates(column, replace(rules, order=order, pivot=pivot), name)
        readable.append(np.ones(len(texts), bool) if parsed.bad is None else ~parsed.bad)
    only = {
        order: texts[int(alone.argmax())]
        for order, reads in zip(_ORDERS, readable, strict=True)
        if (alone := reads & (np.sum(readable, axis=0) == 1)).any()
    }
    if len(only) == 1:
        ((order, text),) = only.items()
        return replace(rules, order=order), f"{text!r} can only be {_IN_ORDER[order]}"
    cure = " or ".join(setting(DateRules, "order", order) for order in _ORDERS)
    shown = [f"{text!r} can only be {_IN_ORDER[order]}" for order, text in only.items()]
    if shown:
        raise DateError(
            f"{name!r} holds several orders: {', '.join(shown)}; use {cure} and reject the others"
        )
    raise DateError(
        f"{name!r} could be read in several orders: no value fits one alone, such as {texts[0]!r}; "
        f"use {cure}"
    )


_IN_ORDER = {"dmy": "day first", "mdy": "month first", "ymd": "year first"}
_LONGEST_DATE = len("20/08/2025")


_DIGITS_ALONE = r"^\s*\d{5,8}(?:[T ]|$)"


@record
class Evidence(Record):
    """What the distinct texts of a column say of the order of day and month.

    `three` are those of two small numbers and a year; `day_first` and `month_first` those
    with a number over 12 in the first or second place; `digits` those without any separator.
    `plain`: all begin with a year; `words`: some begin with a number before a word.
    """

    three: list[str]
    day_first: list[str]
    month_first: list[str]
    digits: list[str]
    plain: bool
    words: bool

    @classmethod
    def of(cls, column: pa.ChunkedArray) -> Evidence:
        """Look at a text for each different beginning in a column: times say nothing of it."""
        texts = column.cast(pa.string()) if pa.types.is_dictionary(column.type) else column
        different = pc.unique(texts).drop_null().cast(pa.string())
        beginnings = pc.utf8_slice_codeunits(different, 0, _LONGEST_DATE)
        distinct = pc.take(different, pc.array_of(first_rows(beginnings)))
        matches = pc.extract_regex(pc.utf8_trim_whitespace(distinct), THREE_NUMBERS)
        readable, parts = distinct.filter(matches.is_valid()), matches.filter(matches.is_valid())
        first, second = (pc.struct_field(parts, part).cast(pa.int64()) for part in ("a", "b"))
        return cls(
            readable.to_pylist(),
            readable.filter(pc.greater(first, 12)).to_pylist(),
            readable.filter(pc.greater(second, 12)).to_pylist(),
            distinct.filter(pc.match_substring_regex(distinct, _DIGITS_ALONE)).to_pylist(),
            bool(pc.all(pc.match_substring_regex(distinct, r"^\d{4}")).as_py()),
            bool(pc.any(pc.match_substring_regex(distinct, r"^\d{1,2}\D+\p{L}")).as_py()),
        )


def infer_date_rules(source: Source, date: str, rules: DateRules) -> tuple[DateRules, str]:
    """Return rules with all decided that the whole column of dates has to say, and the evidence
    for the order of day and month.
    """
    evidence = ""
    try:
        if rules.order == "infer":
            rules, evidence = infer_order(source.column(date), rules, date)
        if rules.shift and rules.time is None:
            parts = (table[date] for table in source.batches(ColumnRequest(date)))
            rules = settled_start(parts, rules, date)
    except DateError as error:
        raise DateError(f"{source.name}: {error}") from None
    return rules, evidence


def find_date(source: Source, rules: DateRules) -> str:
    """Return the one column that can be dates, judged by its first batch: days before months.

    Raises `InputError` where none or several can.
    """
    first = next(source.whole(), None)
    if first is None or not first.num_rows:
        raise NoRowsError(f"{source.name}: has column names but no rows")
    grains = {name: _may_be_dates(first[name], rules) for name in first.column_names}
    days = [name for name, grain in grains.items() if grain == "day"]
    names = days or [name for name, grain in grains.items() if grain is not None]
    if len(names) != 1:
        what = f"{', '.join(names)} could all be dates" if names else "no column is plainly dates"
        cure = f"name the column with {spell_option('date=', '--date COLUMN')}"
        raise InputError(f"{source.name}: {what}; {cure}")
    return str(names[0])


def _may_be_dates(column: pa.ChunkedArray, rules: DateRules) -> Grain | None:
    """Return what the dates of a column may represent, None where it can be none."""
    kind = column.type
    if not looks_like_dates(column, rules):
        return None
    if _is_number(kind) and not rules.serials and not rules.grain:
        whole = column.drop_null()
        if not len(whole) or not all(len(str(v.as_py()).split(".")[0]) == 8 for v in whole[:200]):
            return None

    try:
        decided, _ = infer_order(column.slice(0, 5000), rules, "")
        parsed = read_dates(column.slice(0, 5000), decided)
    except EptaroError:
        return None
    blank = parsed.reasons is not None and (parsed.reasons == "blank").all()
    return parsed.grain if not blank and (parsed.bad is None or parsed.bad.mean() < 0.2) else None
