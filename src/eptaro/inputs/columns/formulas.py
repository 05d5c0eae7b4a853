"""The columns of one batch that formulas use, and what the formulas make of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cache, partial
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.expressions.kinds import FIRST_YEAR, ValueKind, kind_of
from eptaro.core.expressions.parser import Formula, Formulas
from eptaro.core.expressions.tree import Call, Name, Node, Where, error_at
from eptaro.core.kernels.factorize import factorize
from eptaro.core.kernels.parallel import run_parallel
from eptaro.core.results.column import Column, join_columns
from eptaro.errors import DateError, spell_option
from eptaro.inputs.columns.codes import read_codes
from eptaro.inputs.columns.kinds import in_order, name_picked, read_text_or_date
from eptaro.inputs.columns.values import RowOrigin, read_numbers
from eptaro.inputs.dates.clock import holds_clock, read_clock, read_timed_dates
from eptaro.inputs.dates.reading import ParsedDates, in_periods, read_dates
from eptaro.inputs.dates.texts import month_in_digits
from eptaro.inputs.files.chunks import encode_dictionary, plain, to_numpy
from eptaro.rules import DateRules

# So few rows that what is between a formula's steps is soon used again, so many that
# handing them to a processor takes no time beside.
_EACH = 1 << 18


def in_parts(work: Callable[[slice], Column], rows: int) -> Column:
    """Return the column that `work` makes of all rows, called for some of them at a time."""
    if rows < 2 * _EACH:
        return work(slice(0, rows))
    head, *parts = [slice(at, min(at + _EACH, rows)) for at in range(0, rows, _EACH)]
    first = work(head)
    kind, data, valid = _kind(first), np.empty(rows, first.data.dtype), np.ones(rows, bool)

    def put(part: slice, column: Column) -> bool | None:
        """Put some rows into their places and return whether all have a value.

        None where they are of another kind, as when numbers outgrow 32 bits.
        """
        if _kind(column) != kind:
            return None
        data[part] = column.data
        if column.valid is not None:
            valid[part] = column.valid
        return column.valid is None

    full = [put(head, first), *run_parallel([partial(lambda p: put(p, work(p)), p) for p in parts])]
    if None in full:
        return join_columns([first, *map(work, parts)])
    return replace(first, data=data, valid=None if all(full) else valid)


def _kind(column: Column) -> tuple[str, int, str]:
    return column.kind, column.scale, column.data.dtype.str


_MANY = 1 << 12  # texts, which are looked at again for each part of the rows
_HOUR = 3_600_000_000_000  # nanoseconds


_OF_A_YEAR = ("date", "week")  # functions whose first part is a year
_SHORT_YEAR = "has a year of two digits; use if(YEAR > 49, 1900, 2000) + YEAR in its place"
_MOST = 10_000  # of a year, and of a number in it


def _are_short(years: Ints, filled: Flags) -> Flags:
    """Return which years have no more than two digits."""
    return filled & (years >= 0) & (years < FIRST_YEAR)


class FormulaColumns:
    """What formulas make of the rows of a table; each column is read once, when it is needed."""

    def __init__(
        self, table: pa.Table, formulas: Formulas, origin: RowOrigin, rules: DateRules, date: str
    ) -> None:
        self._table, self._formulas, self._placed = table, formulas, origin
        self._rules, self._date = rules, date
        self._read = cache(self._read_once)

    def column(self, name: str) -> Column:
        """Return the column of a name."""
        return self._evaluate(self._formulas.columns[name]).named(name)

    def numbers(self, name: str) -> Column:
        """Return a column of numbers; what is true counts as 1.

        Raises `ExpressionError` where it holds none.
        """
        column, formula = self.column(name), self._formulas.columns[name]
        if column.kind == "flag":
            return Column.of(name, "integer", column.data.astype(np.int64), column.valid)
        if column.kind not in ("integer", "decimal", "float"):
            message = f"this is {_KINDS[column.kind].value}, and a measure needs numbers"
            raise error_at(formula.text, formula.node.at, message)
        return column

    def order_column(self, name: str) -> Column:
        """Return a column as texts in order of letters, or as dates, blank where its condition is
        not met.
        """
        formula = self._formulas.columns[name]
        own = name_picked(formula)
        if own is None:
            own_column = self.column(name)
            return in_order(own_column) if own_column.kind == "text" else own_column
        kind = ValueKind.DATE if own == self._date else (self._formulas.kinds or {}).get(own)
        source = self._placed.source.name
        column = read_text_or_date(self._table[own], own, source, self._rules, kind).named(name)
        if not isinstance(formula.node, Where):
            return column
        met = self._evaluate(replace(formula, node=formula.node.condition, wanted=ValueKind.FLAG))
        true: Flags = met.data if met.valid is None else met.data & met.valid
        return column.blanked(true)

    def filled_only(self, name: str) -> Column:
        """Return a column that only says which rows have a value."""
        column = self.column(name)
        valid = column.data >= 0 if column.kind == "text" else column.filled_mask(slice(None))
        return Column.of(name, "flag", np.zeros(len(column), bool), valid)

    def category_codes(self, name: str) -> Categorical:
        """Return a column as codes into its distinct values."""
        return encode_column(self.column(name), self._formulas.columns[name])

    def word_codes(self, name: str) -> Categorical:
        """Return a column as codes into the words of its distinct values."""
        column = self.column(name)
        if column.kind == "text":
            return self.category_codes(name)
        values = column.to_list()
        return read_codes(pa.chunked_array([pa.array(values)]), name)

    def dates(self, name: str) -> ParsedDates:
        """Return a column of dates; what is none is bad."""
        formula = self._formulas.columns[name]
        if self._rules.fiscal_periods:
            return self._fiscal_dates(formula)
        column = self.column(name)
        if column.kind != "date":
            message = f"this is {_KINDS[column.kind].value}, and a date is needed"
            raise error_at(formula.text, formula.node.at, message)
        bad, reasons = None, None
        if column.valid is not None:
            bad = ~column.valid
            why = "is not a week" if formula.grain == "week" else "is not a day"
            reasons = np.where(bad, f"{why} of the calendar", "").astype(object)
            if isinstance(formula.node, Call) and formula.node.function in _OF_A_YEAR:
                years, filled = self._whole(formula, formula.node.given[0])
                reasons[bad & _are_short(years, filled)] = _SHORT_YEAR
        days = np.where(bad, 0, column.data) if bad is not None else column.data
        parsed = ParsedDates(days.astype(np.int32), None, bad, reasons, None)
        return in_periods(parsed, self._rules, name)

    def _fiscal_dates(self, formula: Formula) -> ParsedDates:
        """Return the first days of the periods of a calendar that a formula numbers in its years:
        `date(year, month, 1)` or `week(year, number)`.
        """
        from eptaro.inputs.dates.periods import days_of_periods  # which few questions need

        node, rules = formula.node, self._rules
        if not isinstance(node, Call) or formula.grain is None or formula.grain != rules.grain:
            message = (
                "fiscal periods that are calculated are weeks, months or years: "
                "week(year, number), date(year, month, 1) or date(year, 1, 1)"
            )
            raise error_at(formula.text, node.at, message)
        (years, filled), (numbers, named) = (self._whole(formula, part) for part in node.given[:2])
        short = _are_short(years, filled)
        first, exists, grain = days_of_periods(years, numbers, rules)
        bad = ~(exists & filled & named) | short
        if not bad.any():
            return ParsedDates(first.astype(np.int32), grain=grain)
        cure = spell_option("adjustments=", "--adjustments COLUMN")
        why = "is no period of the calendar"
        if formula.grain == "month":
            why += f" (one that adjusts the year? use least(period, 12), with {cure})"
        reasons = np.where(bad, why, "").astype(object)
        reasons[short] = _SHORT_YEAR
        return ParsedDates(
            np.where(bad, 0, first).astype(np.int32), None, bad, reasons, None, grain
        )

    def _whole(self, formula: Formula, node: Node) -> tuple[Ints, Flags]:
        """Return a part of a formula as whole numbers, months by their names too, and where it is
        one.
        """
        column = self._evaluate(replace(formula, node=node, wanted=ValueKind.NUMBER))
        if column.kind == "text":
            from eptaro.core.expressions.values import month_numbers

            column = month_numbers(column)
        numbers = np.broadcast_to(column.numbers(), self._table.num_rows)
        with np.errstate(invalid="ignore"):
            whole = (np.abs(numbers) < _MOST) & (numbers % 1 == 0)
        if column.valid is not None:
            whole = whole & np.broadcast_to(column.valid, len(whole))
        return np.where(whole, numbers, 0).astype(np.int64), whole

    def inputs(self) -> tuple[dict[str, Column], dict[str, Column]]:
        """Return the columns that formulas of columns work on, and the hours of those of times."""
        columns, hours = {}, {}
        for formula in self._formulas.columns.values():
            for name in formula.names:
                columns[name], _, hour = self._of(name, formula)
                if hour is not None:
                    hours[name] = hour
        return columns, hours

    def condition_mask(self) -> Flags:
        """Return which rows meet the condition: those where it is true."""
        where = self._formulas.where
        assert where is not None
        column = self._evaluate(where)
        if column.kind != "flag":
            message = f"this is {_KINDS[column.kind].value}, and a condition is needed"
            raise error_at(where.text, where.node.at, message)
        data: NDArray[Any] = column.data
        return data if column.valid is None else data & column.valid

    def _evaluate(self, formula: Formula) -> Column:
        from eptaro.core.expressions.evaluate import evaluate  # of most books there are none

        readings = {name: self._of(name, formula) for name in formula.names}
        columns = {name: column for name, (column, _, _) in readings.items()}
        kinds = {name: kind for name, (_, kind, _) in readings.items()}
        hours = {name: hour for name, (_, _, hour) in readings.items() if hour is not None}
        if formula.wanted is ValueKind.DATE and self._rules.locale != "en":
            columns |= self._months(formula.node, columns)
        rows, node = self._table.num_rows, formula.node

        def some(of: slice) -> Column:
            own, times = ({n: c.take(of) for n, c in part.items()} for part in (columns, hours))
            count = len(range(rows)[of])
            return evaluate(node, formula.text, own, kinds, count, times)

        words = kind_of(node, kinds, formula.text) in (ValueKind.NUMBER, ValueKind.FLAG)
        many = max((len(c.choices) for c in columns.values() if c.choices is not None), default=0)
        return in_parts(some, rows) if words and many <= _MANY else some(slice(0, rows))

    def _months(self, node: Node, columns: Mapping[str, Column]) -> dict[str, Column]:
        """Return the columns of month names in the language of the dates, as numbers."""
        calls = [part for part in node.all() if isinstance(part, Call) and part.function == "date"]
        renamed = {}
        for month in (call.given[1] for call in calls):
            column = columns[month.name] if isinstance(month, Name) else None
            if isinstance(month, Name) and column is not None and column.choices is not None:
                words = month_in_digits([*map(str, column.choices)], self._rules.locale)
                choices = np.array([*words, None], object)[:-1]
                renamed[month.name] = replace(column, choices=choices)
        return renamed

    def _of(self, name: str, formula: Formula) -> tuple[Column, ValueKind, Column | None]:
        """Return a column as a formula takes it, its kind, and the hours of one of times."""
        return self._read(name)

    def _read_once(self, name: str) -> tuple[Column, ValueKind, Column | None]:
        array, meant = self._table[name], (self._formulas.kinds or {}).get(name)
        kind = array.type
        if pa.types.is_dictionary(kind):
            kind = kind.value_type
        if pa.types.is_null(kind) or (meant is ValueKind.BLANK and name != self._date):
            none = np.zeros(len(array), bool)
            return Column.of(name, "integer", none.astype(np.int64), none), ValueKind.BLANK, None
        if name == self._date:
            return self._as_dates(array, name)
        if name == self._rules.time or pa.types.is_time(kind):
            return self._as_clock(array, name)
        if meant is ValueKind.DATE and holds_clock(array):
            return self._as_clock(array, name)
        if pa.types.is_string(kind) or pa.types.is_large_string(kind):
            if meant is ValueKind.NUMBER:
                return self._as_numbers(array, name), ValueKind.NUMBER, None
            if meant is not ValueKind.DATE:
                return self._as_text(array, name), ValueKind.TEXT, None
        elif pa.types.is_boolean(kind):
            valid = to_numpy(array.is_valid()) if array.null_count else None
            flags = plain(array.fill_null(False))
            return Column.of(name, "flag", flags, valid), ValueKind.FLAG, None
        elif not pa.types.is_temporal(kind):
            numbers = read_numbers(array, name, self._placed)
            return numbers, ValueKind.NUMBER, None
        return self._as_dates(array, name)

    def _as_text(self, array: pa.ChunkedArray, name: str) -> Column:
        whole = encode_dictionary(array)
        codes = whole.indices.fill_null(-1) if whole.null_count else whole.indices
        words = np.array([*whole.dictionary.to_pylist(), None], object)[:-1]
        return Column.text(name, words, plain(codes).astype(np.int32))

    def _as_numbers(self, array: pa.ChunkedArray, name: str) -> Column:
        """Return numbers that are written as text."""
        source = self._placed.source
        return read_numbers(source.as_numbers(array, self._placed, name), name, self._placed)

    def _as_dates(
        self, array: pa.ChunkedArray, name: str
    ) -> tuple[Column, ValueKind, Column | None]:
        if name == self._date:
            parsed = read_timed_dates(self._table, name, self._rules)
        else:
            parsed = read_dates(array, replace(self._rules, grain=None, fiscal_periods=False), name)
        valid = None
        if parsed.bad is not None and parsed.reasons is not None and parsed.bad.any():
            wrongly = [r for r in np.unique(parsed.reasons[parsed.bad]).tolist() if r != "blank"]
            if wrongly and (name != self._date or self._rules.bad_dates == "raise"):
                row = int(np.flatnonzero(parsed.reasons == wrongly[0])[0])
                raise DateError(
                    f"{self._placed.describe_row(row)} of {name!r}: {array[row].as_py()!r} "
                    f"{wrongly[0]}"
                )
            valid = ~parsed.bad
        hours = None
        if parsed.times is not None:
            times = np.asarray(parsed.times)
            timed = times >= 0
            has_time = valid if timed.all() else timed if valid is None else timed & valid
            hours = Column.of("", "integer", times // _HOUR % 24, has_time)
        return Column.of(name, "date", parsed.days, valid), ValueKind.DATE, hours

    def _as_clock(
        self, array: pa.ChunkedArray, name: str
    ) -> tuple[Column, ValueKind, Column | None]:
        """Return times of day as those of one day, and their hours."""
        clock = read_clock(array, self._rules, name)
        if clock.bad.any():
            row = int(np.flatnonzero(clock.bad)[0])
            raise DateError(
                f"{self._placed.describe_row(row)} of {name!r}: {array[row].as_py()!r} is no time "
                f"of day"
            )
        valid = ~clock.blank if clock.blank.any() else None
        hours = Column.of("", "integer", clock.times // _HOUR, valid)
        days = np.zeros(len(clock.times), np.int64)
        return Column.of(name, "date", days, valid), ValueKind.DATE, hours


_KINDS = {
    "integer": ValueKind.NUMBER,
    "decimal": ValueKind.NUMBER,
    "float": ValueKind.NUMBER,
    "text": ValueKind.TEXT,
    "date": ValueKind.DATE,
    "flag": ValueKind.FLAG,
}


def encode_column(column: Column, formula: Formula) -> Categorical:
    """Return a column as codes into its distinct values, -1 where blank.

    Raises `ExpressionError` for numbers with decimals.
    """
    if column.kind == "text":
        assert column.choices is not None
        return Categorical(column.data.astype(np.int32), Column.text(column.name, column.choices))
    if column.kind in ("decimal", "float"):
        at = 0 if isinstance(formula.node, Name) else formula.node.at
        message = "groups are no numbers with decimals; use band(x, 0, 50, 100) or round(x)"
        raise error_at(formula.text, at, message)
    if column.kind == "flag":
        codes = column.data.astype(np.int32)
        if column.valid is not None:
            codes = np.where(column.valid, codes, np.int32(-1))
        return Categorical(codes, Column.of(column.name, "flag", [False, True]))
    if column.data.dtype == object:
        at = 0 if isinstance(formula.node, Name) else formula.node.at
        raise error_at(
            formula.text, at, "groups are whole numbers of 64 bits; use band() or round()"
        )
    data = column.data.astype(np.int64)
    valid = column.valid
    filled = data if valid is None else data[valid]
    least = int(filled.min()) if len(filled) else 0
    unique, places = factorize(filled - least, int(filled.max()) - least + 1 if len(filled) else 0)
    codes = np.full(len(data), -1, np.int32)
    codes[slice(None) if valid is None else valid] = places
    return Categorical(codes, Column.of(column.name, column.kind, unique + least))
