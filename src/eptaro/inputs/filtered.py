"""`FilteredSource`: the rows of a source that meet a condition."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.expressions.kinds import ValueKind
from eptaro.core.expressions.parser import Formula, Formulas
from eptaro.inputs.columns.formulas import FormulaColumns
from eptaro.inputs.columns.kinds import settled_kinds
from eptaro.inputs.columns.values import RowOrigin
from eptaro.inputs.columns.wrapped import SourceWrapper
from eptaro.inputs.datecolumn import infer_date_rules
from eptaro.inputs.options import FoldSpec
from eptaro.inputs.sources import ColumnRequest, Source, check_names
from eptaro.rules import DateRules


class FilteredSource(SourceWrapper):
    """Another source, of which only rows that meet a condition are handed on.

    After they are read, `left` says how many were not. Rows keep their numbers.
    """

    def __init__(self, source: Source, where: str, date: str | None, rules: DateRules) -> None:
        super().__init__(source)
        self._date = date or ""
        self._formulas = Formulas(where=Formula.condition(where))
        check_names(self._formulas, source)
        names = self._formulas.names
        self._rules = infer_date_rules(source, date, rules)[0] if date in names and date else rules
        self._formulas = settled_kinds(
            source, FoldSpec(self._date, [], [], self._rules, self._formulas)
        )
        self._masks: list[NDArray[np.bool_]] = []

    @property
    def left(self) -> int:
        """How many rows did not meet the condition."""
        return sum(len(mask) - int(np.count_nonzero(mask)) for mask in self._masks)

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns of rows that meet the condition."""
        formulas = self._formulas
        there = {request.date, *request.groups, *request.others}
        numeric = [n for n, kind in (formulas.kinds or {}).items() if kind is ValueKind.NUMBER]
        numbers = [*request.numbers, *(name for name in numeric if name not in there)]
        timed = [] if self._rules.time is None else [self._rules.time]
        others = [*request.others, *(n for n in (*formulas.names, *timed) if n not in numbers)]
        more = ColumnRequest(request.date, request.groups, numbers, others)
        for table in self._keep_rows(self.source.batches(more)):
            yield table.select(request.names)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns of rows that meet the condition."""
        return self._keep_rows(self.source.whole())

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written, of the rows that meet the condition so far."""
        texts = self.source.raw_text(name)
        flags = np.zeros(len(texts), bool)
        met = np.concatenate([np.empty(0, bool), *self._masks])
        flags[: len(met)] = met
        return texts.filter(pa.array(flags))

    def row_number(self, place: int) -> int:
        """Return the number that a row has among all of the source."""
        return self.source.row_number(int(self.places[place]))

    @property
    def places(self) -> Ints:
        """The place that each row handed on so far has in the source."""
        return np.flatnonzero(np.concatenate([np.empty(0, bool), *self._masks]))

    def _keep_rows(self, tables: Iterator[pa.Table]) -> Iterator[pa.Table]:
        self._masks = []
        rows_before = 0
        for table in tables:
            worked_out = FormulaColumns(
                table, self._formulas, RowOrigin(self.source, rows_before), self._rules, self._date
            )
            mask = worked_out.condition_mask()
            self._masks.append(mask)
            rows_before += table.num_rows
            yield table.filter(pa.array(mask))


def filter_source(source: Source, where: str | None, date: str | None, rules: DateRules) -> Source:
    """Return a source, narrowed where there is a condition.

    Raises `ExpressionError` for a text that is none, `InputError` for a missing column.
    """
    return source if where is None else FilteredSource(source, where, date, rules)
