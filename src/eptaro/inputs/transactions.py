"""A source's columns as batches of transactions, ready to fold; bad dates rejected."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from decimal import Decimal
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Plane
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import Grain, plural_of
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.kinds import ValueKind
from eptaro.core.expressions.parser import Formulas
from eptaro.core.kernels.parallel import run_parallel
from eptaro.core.kernels.reading import RowMask, min_max
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.errors import DateError, InputError, NoRowsError, spell_option
from eptaro.inputs.columns.kinds import kind_picked, only_picked, read_text_or_date, settled_kinds
from eptaro.inputs.columns.values import RowOrigin, read_filled, read_numbers
from eptaro.inputs.datecolumn import infer_date_rules
from eptaro.inputs.dates.clock import add_clock, read_timed_dates
from eptaro.inputs.dates.reading import ParsedDates, is_text, takes_plain_days
from eptaro.inputs.files.chunks import filter_rows
from eptaro.inputs.options import FoldSpec
from eptaro.inputs.sources import (
    ColumnRequest,
    SkippedRows,
    Source,
    check_columns,
    check_names,
    in_large_pieces,
    prefetch,
)
from eptaro.option import setting
from eptaro.progress import report_progress
from eptaro.rules import DateRules

if TYPE_CHECKING:
    from eptaro.inputs.columns.formulas import FormulaColumns

_FIRST_SHOWN = 3
_LEAST_AT_ONCE = 1 << 16  # rows; fewer are read before a thread has begun


def _is_small(piece: Any) -> bool:
    """Return whether a piece is read and folded before a thread would have started."""
    return not isinstance(piece, SkippedRows) and piece.num_rows < _LEAST_AT_ONCE


class Transactions:
    """The transactions of a source, read batch by batch under date rules.

    After they are read, `rows` says how many there were, `rejected` lists the rows whose
    date could not be read (row, value, reason), `left_out` what they add up to, and `blanks`
    how many values of each measured column are blank.
    """

    def __init__(self, source: Source, spec: FoldSpec, *, inputs: bool = False) -> None:
        date, planes, formulas = spec.date_column, spec.planes, spec.formulas
        check_names(formulas, source)
        if spec.rules.time is not None:
            check_columns([spec.rules.time], source.names(), source.name)
        as_it_is = spec.settled or date in formulas.columns
        rules_and_evidence = (
            (spec.rules, "") if as_it_is else infer_date_rules(source, date, spec.rules)
        )
        self._rules, self.evidence = rules_and_evidence
        formulas = settled_kinds(source, replace(spec, rules=self._rules))
        assert formulas.kinds is not None
        self._kinds = formulas.kinds
        self._source, self._date, self._by = source, date, spec.by
        formulas = self._find_picked_texts(planes, formulas)
        self._codes = sorted({p.column for p in planes if p.what == "codes"})
        self._numbers = sorted(
            {p.column for p in planes if p.what not in ("rows", "filled", "codes")} - self._said
        )
        filled = {p.column for p in planes if p.what == "filled"}
        self._filled = sorted(filled - {*self._numbers, *self._said})
        self._summed = [p.column for p in planes if p.what == "sum"]
        self._part = spec.settled  # one of several, which are decided on together
        self.rows = 0
        self.blanks: dict[str, int] = dict.fromkeys(self._numbers, 0)
        self.left_out: dict[str, Any] = dict.fromkeys(self._summed, Decimal(0))
        self._rejected: list[tuple[int, str, str]] = []
        self._formulas, self._inputs = formulas, inputs
        self.unmet = 0  # rows that do not meet the condition
        self.grain: Grain | None = None  # the periods that dates represent
        self.zone: str | None = None  # of the dates, where they keep one and none is given
        self.untimed = 0  # rows without a time in the column that holds these
        self.seen: Span | None = None  # the days of all rows, whether they meet it or not

    def _find_picked_texts(self, planes: list[Plane], formulas: Formulas) -> Formulas:
        """Find the columns that texts or dates are picked from, and let their formulas know."""
        self._said: set[str] = set()
        kinds = {**self._kinds, self._date: ValueKind.DATE}
        for column in only_picked(planes):
            formula = formulas.columns.get(column)
            kind = kinds.get(column) if formula is None else kind_picked(formula.node, kinds)
            if kind not in (ValueKind.TEXT, ValueKind.DATE):
                continue
            self._said.add(column)
            if formula is not None:
                more = {column: replace(formula, wanted=None)}
                formulas = replace(formulas, columns={**formulas.columns, **more})
        return formulas

    def __iter__(self) -> Iterator[Batch]:
        for table in prefetch(in_large_pieces(self._pieces()), _is_small):
            if isinstance(table, SkippedRows):
                self._pass_over(table)
                continue
            batch = self._batch(table)
            self.rows += table.num_rows
            report_progress(self.rows, self._source.share)
            if len(batch):
                yield batch
        if not self.rows and not self._part:
            raise NoRowsError(f"{self._source.name}: has column names but no rows")
        if self._rejected and self._rules.bad_dates == "raise":
            cure = f"to leave such rows out, use {setting(DateRules, 'bad_dates', 'reject')}"
            left = len(self._rejected) < self.rows - self.unmet
            raise DateError(f"{self._complaint()}; {cure}" if left else self._complaint())
        if self.unmet == self.rows:
            if self._part:
                return  # others may have some
            assert self._formulas.where is not None
            raise InputError(
                f"{self._source.name}: no row meets the condition {self._formulas.where.text!r}"
            )
        if len(self._rejected) == self.rows - self.unmet:
            raise DateError(f"{self._complaint()}; no row is left")

    @property
    def rejected(self) -> Result:
        """The rows rejected: their number from 1 (a header not counted), value and reason."""
        rows, values, reasons = (
            zip(*self._rejected, strict=True) if self._rejected else ((), (), ())
        )
        texts = np.array([*values, None], object)[:-1]
        return Result(
            [
                Column.of("row", "integer", np.array(rows, np.int64), description="Row, from 1"),
                Column.text("value", texts, description=f"The text in {self._date}"),
                Column.text("reason", np.array([*reasons, None], object)[:-1], description="Why"),
            ]
        )

    def _complaint(self) -> str:
        first = self._rejected[:_FIRST_SHOWN]
        alike = len(first) < len(self._rejected) and len({reason for *_, reason in first}) == 1
        examples = "; ".join(
            f"row {row:,}: {reason}" if reason == "blank" else f"row {row:,}: {value!r} {reason}"
            for row, value, reason in first[: 1 if alike else None]
        )
        count = f"{len(self._rejected):,} of {self.rows:,} rows"
        more = ", the first" if len(self._rejected) > _FIRST_SHOWN else ""
        verb = "holds" if len(self._rejected) == 1 else "hold"
        where = f"{self._source.name}: {count} {verb} no date that can be read in {self._date!r}"
        return f"{where}{more}: {examples}"

    def columns_read(self) -> ColumnRequest:
        """Return the columns of the source that are read, by what they are needed for."""
        worked_out, used = self._formulas.columns, self._formulas.names
        date, by, numbers, others = (
            [name for name in names if name not in worked_out]
            for names in (
                [self._date],
                self._by,
                self._numbers,
                [*self._filled, *self._codes, *self._said],
            )
        )
        # Groups are read as they are written, 007 as 007, also where they are numbers beside.
        as_they_are = {*date, *by, *(name for name in others if name in self._said)}
        numeric = [n for n in (*others, *used) if self._kinds.get(n) is ValueKind.NUMBER]
        numbers = [n for n in dict.fromkeys([*numbers, *numeric]) if n not in as_they_are]
        others += [] if self._rules.time is None else [self._rules.time]
        others = [
            n for n in dict.fromkeys([*others, *used, *self._measured_columns]) if n not in numbers
        ]
        plain_days = bool(date) and not self._inputs and takes_plain_days(self._rules)
        plain_days &= not {*date} & {*by, *numbers, *others, *used}
        return ColumnRequest((date or used)[0], by, numbers, others, plain_days)

    @property
    def _measured_columns(self) -> list[str]:
        """The columns of the input whose numbers are measured."""
        return [name for name in self._numbers if name not in self._formulas.columns]

    def _as_it_is(self, table: pa.Table, name: str, origin: RowOrigin) -> pa.ChunkedArray:
        """Return a column of the input; one that holds numbers as those, though it was read as text
        for others.
        """
        column = table[name]
        source = self._source
        number = name in self._measured_columns or self._kinds.get(name) is ValueKind.NUMBER
        if number and source.undecided and is_text(column.type):
            return source.as_numbers(column, origin, name)
        return column

    def _pieces(self) -> Iterator[pa.Table | SkippedRows]:
        """Yield the wanted columns; rows are passed over where the source knows that the condition
        is not met, and where dates are days as they are.
        """
        where, request = self._formulas.where, self.columns_read()
        as_they_stand = not self._rules.shift and self._date not in self._formulas.columns
        # Texts that are dates are in another order than their days.
        as_they_stand &= where is None or not any(
            use.dated and self._kinds.get(use.name) is ValueKind.DATE for use in where.uses
        )
        if where is None or self._inputs or not as_they_stand:
            return self._source.batches(request)
        return self._source.pieces(request, where.node)

    def _pass_over(self, rows: SkippedRows) -> None:
        self.rows += rows.rows
        self.unmet += rows.rows
        self._see(rows.first, rows.last)
        report_progress(self.rows, self._source.share)

    def _see(self, first: int, last: int) -> None:
        """Let the days of all rows span some more."""
        ends = [first, last, *([] if self.seen is None else [self.seen.lo, self.seen.hi])]
        self.seen = Span.of(min(ends), max(ends))

    def _rows_met(self, table: pa.Table) -> tuple[pa.Table, RowMask | None, ParsedDates | None]:
        """Return the rows that meet the condition, which these are, and their dates.

        The second is None where all rows do, dates where there is no condition.
        """
        if self._formulas.where is None:
            return table, None, None
        parsed = self._dates(table)
        good = parsed.days if parsed.bad is None else parsed.days[~parsed.bad]
        if len(good):
            self._see(*min_max(good))
        keeping = RowMask(self._formula_columns(table).condition_mask())
        unmet = table.num_rows - keeping.count
        self.unmet += unmet
        if not unmet:
            return table, None, parsed
        names = {*replace(self._formulas, where=None).names}
        names |= {*self._by, *self._numbers, *self._filled, *self._codes, *self._said}
        if parsed.bad is not None:  # they are listed
            names.add(self._date)
        if self._rules.time is not None:
            names.add(self._rules.time)
        needed = [n for n in table.column_names if n in names] or table.column_names[:1]
        rows = filter_rows(table.select(needed), keeping)
        return rows, keeping, parsed.take(keeping)

    def _formula_columns(self, table: pa.Table, keeping: RowMask | None = None) -> FormulaColumns:
        from eptaro.inputs.columns.formulas import FormulaColumns  # which few questions need

        origin = RowOrigin(self._source, self.rows, keeping)
        return FormulaColumns(table, self._formulas, origin, self._rules, self._date)

    def _batch(self, table: pa.Table) -> Batch:
        table, keeping, dates = self._rows_met(table)
        parsed, groups, values, distinct = self._columns(table, dates, keeping)
        # Where transactions are asked for one by one, they keep their places in the input.
        numbered = self._inputs or (parsed.bad is not None and bool(parsed.bad.any()))
        places = RowOrigin(self._source, self.rows, keeping).places if numbered else None
        batch = Batch(parsed.days, groups, values, distinct, parsed.times, self.rows, places)
        for column in self._numbers:
            self.blanks[column] += batch.extent(column).blanks
        if self._inputs and self._formulas.columns:
            inputs, hours = self._formula_columns(table, keeping).inputs()
            batch = replace(batch, inputs=inputs, hours=hours)
        if parsed.bad is None or not parsed.bad.any():
            return batch
        self._reject(table, parsed, values, places)
        if places is None:
            batch = replace(batch, places=np.arange(self.rows, self.rows + len(batch)))
        return batch.only(~parsed.bad)

    def _columns(
        self, table: pa.Table, dates: ParsedDates | None, keeping: RowMask | None
    ) -> tuple[ParsedDates, dict[str, Categorical], dict[str, Column], dict[str, Categorical]]:
        """Return dates, groups, values and codes of a batch, read side by side."""
        name = self._source.name

        origin = RowOrigin(self._source, self.rows, keeping)

        def numbers(column: str) -> Column:
            return read_numbers(self._as_it_is(table, column, origin), column, origin)

        def read_filling(column: str) -> Column:
            return read_filled(self._as_it_is(table, column, origin), column)

        def codes(column: str) -> Categorical:
            from eptaro.inputs.columns.codes import read_codes

            return read_codes(self._as_it_is(table, column, origin), column)

        def groups_of(column: str) -> Categorical:
            from eptaro.inputs.columns.codes import read_groups

            return read_groups(table[column], column, name)

        def read_text(column: str) -> Column:
            kind = ValueKind.DATE if column == self._date else self._kinds.get(column)
            return read_text_or_date(table[column], column, name, self._rules, kind)

        formed = self._formulas.columns
        calculated: Any = self._formula_columns(table, keeping) if formed else None
        by_kind: list[tuple[list[str], Callable[[str], Any]]] = [
            ([self._date], lambda _: dates or self._dates(table, calculated)),
            (self._by, lambda g: calculated.category_codes(g) if g in formed else groups_of(g)),
            (self._filled, lambda c: calculated.filled_only(c) if c in formed else read_filling(c)),
            (self._numbers, lambda c: calculated.numbers(c) if c in formed else numbers(c)),
            (
                sorted(self._said),
                lambda c: calculated.order_column(c) if c in formed else read_text(c),
            ),
            (self._codes, lambda c: calculated.word_codes(c) if c in formed else codes(c)),
        ]
        works = [partial(work, column) for columns, work in by_kind for column in columns]
        if table.num_rows < _LEAST_AT_ONCE:
            results = iter([work() for work in works])
        else:
            results = iter(run_parallel(works))
        parsed_by_name, groups, filled, values, texts, distinct = (
            {column: next(results) for column in columns} for columns, _ in by_kind
        )
        return parsed_by_name[self._date], groups, filled | values | texts, distinct

    def _dates(self, table: pa.Table, formula_columns: FormulaColumns | None = None) -> ParsedDates:
        try:
            if self._date in self._formulas.columns:
                calculated = formula_columns or self._formula_columns(table)
                parsed = calculated.dates(self._date)
                if self._rules.time is not None:
                    parsed = add_clock(parsed, table[self._rules.time], self._rules, self._date)
            else:
                own = getattr(table[self._date].type, "tz", None)
                if own is not None and self._rules.zone is None:
                    self.zone = own
                parsed = read_timed_dates(table, self._date, self._rules)
        except DateError as error:
            raise DateError(f"{self._source.name}: {error}") from None
        if parsed.grain is not None and self.grain not in (None, parsed.grain):
            raise DateError(
                f"{self._source.name}: {self._date!r} holds both {plural_of(self.grain)}, and, "
                f"after row "
                f"{self.rows:,}, {plural_of(parsed.grain)}; name the period of its dates with "
                f"{spell_option('grain=', '--grain')}"
            )
        self.grain = parsed.grain or self.grain
        self.untimed += parsed.untimed
        return parsed

    def _reject(
        self, table: pa.Table, parsed: ParsedDates, values: dict[str, Column], places: Ints | None
    ) -> None:
        assert parsed.bad is not None and parsed.reasons is not None
        rows = np.flatnonzero(parsed.bad)
        formula = self._formulas.columns.get(self._date)
        names = [self._date] if formula is None else formula.names
        there = table.select(names).take(pa.array(rows))
        texts = [column.cast(pa.string()).to_pylist() for column in there.columns]
        numbers = (rows + self.rows if places is None else places[rows]).tolist()
        for row, number, *parts in zip(rows.tolist(), numbers, *texts, strict=True):
            text = ", ".join(part or "" for part in parts)
            words = self._source.row_number(number)
            self._rejected.append((words, text, str(parsed.reasons[row])))
        for column in self._summed:
            missed = [
                v for v in values[column].take(parsed.bad).to_list() if v is not None and v == v
            ]
            if missed:
                total = sum(missed)
                total_before = self.left_out[column]
                both_exact = not isinstance(total, float) and not isinstance(total_before, float)
                self.left_out[column] = (
                    total_before + total if both_exact else float(total_before) + float(total)
                )
