"""Sources that wrap others: columns turned into rows, numbers read from text."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eptaro.errors import MeasureError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.columns.numbers import (
    cure,
    describe_marks,
    infer_numbers,
    one_of_each_shape,
    read_written,
)
from eptaro.inputs.columns.values import RowOrigin
from eptaro.inputs.dates.reading import is_text
from eptaro.inputs.sources import ColumnRequest, Source, check_columns
from eptaro.rules import Across, NumberRules, across_of, number_rules


class SourceWrapper(Source):
    """Another source; all that is not changed here is the other's."""

    def __init__(self, source: Source) -> None:
        self.source, self.name = source, source.name
        self.of_text, self.decimal = source.of_text, source.decimal
        self.undecided, self.has_rules = source.undecided, source.has_rules

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of all inputs that it reads."""
        return self.source.inputs

    @property
    def share(self) -> float | None:  # type: ignore[override]
        """How much has been read."""
        return self.source.share

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided of the source's columns."""
        return self.source.notes

    @property
    def blanked(self) -> Mapping[str, int]:
        """How many values of each of the source's columns became blank by a rule."""
        return self.source.blanked

    def names(self) -> list[str]:
        """Return the names of all columns."""
        return self.source.names()

    def row_number(self, place: int) -> int:
        """Return the number that a row has in the input."""
        return self.source.row_number(place)

    def settles_numbers(self, name: str, texts: Any) -> bool:
        """Return whether rules read all of a column's different texts as numbers."""
        return self.source.settles_numbers(name, texts)

    def as_numbers(self, column: pa.ChunkedArray, origin: Any, name: str) -> pa.ChunkedArray:
        """Return a column of text as numbers, as the source reads them."""
        return self.source.as_numbers(column, origin, name)

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        return self.source.raw_text(name)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns as they are."""
        return self.source.whole()

    def fingerprint(self) -> str:
        """Return what distinguishes the source from others."""
        return self.source.fingerprint()


class UnpivotedSource(SourceWrapper):
    """Another source; each of its rows becomes as many as there are columns across.

    A row's values follow each other, so that rows keep the order of the input, and their numbers.
    """

    def __init__(self, source: Source, across: Across) -> None:
        super().__init__(source)
        self._across = across
        names = source.names()
        self._wide = across.among(names, source.name)
        self._names = across.long_names(names, source.name)
        self._rest = self._names[:-2]

    def names(self) -> list[str]:
        """Return the names of the other columns, and those of name and value."""
        return self._names

    def row_number(self, place: int) -> int:
        """Return the number of the row of the input that a value is in."""
        return self.source.row_number(place // len(self._wide))

    def raw_text(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        if name == self._across.value:
            return _in_turn([self.source.raw_text(column) for column in self._wide])
        return self._repeat_values(self.source.raw_text(name))

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, a row for each value."""
        check_columns(request.names, self.names(), self.name)
        own, value = {self._across.name, self._across.value}, self._across.value
        groups, numbers, others = (
            [name for name in names if name not in own]
            for names in (request.groups, request.numbers, request.others)
        )
        if value in request.numbers:
            numbers += self._wide
        elif value in request.names:
            others += self._wide
        all_names = [request.date, *groups, *numbers, *others, *self._rest, *self._wide]
        date = next(name for name in all_names if name not in own)
        days = request.plain_days and date == request.date
        for table in self.source.batches(ColumnRequest(date, groups, numbers, others, days)):
            yield self._long(table).select(request.names)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns, a row for each value."""
        for table in self.source.whole():
            yield self._long(table)

    def _long(self, table: pa.Table) -> pa.Table:
        columns: dict[str, Any] = {
            name: self._repeat_values(table[name])
            for name in table.column_names
            if name not in self._wide
        }
        places = np.tile(np.arange(len(self._wide), dtype=np.int32), table.num_rows)
        names = pa.array(self._across.labels(self._wide), pa.string())
        columns[self._across.name] = pa.DictionaryArray.from_arrays(pa.array(places), names)
        if {*self._wide} <= {*table.column_names}:
            columns[self._across.value] = _in_turn([table[name] for name in self._wide])
        return pa.table(columns)

    def _repeat_values(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        return column.take(pa.array(np.repeat(np.arange(len(column)), len(self._wide))))


def _in_turn(columns: Sequence[pa.ChunkedArray]) -> pa.ChunkedArray:
    """Return the values of several columns row by row."""
    parts = [pa.table({"value": column}) for column in columns]
    in_one = pa.concat_tables(parts, promote_options="permissive")["value"]
    rows, count = len(columns[0]), len(columns)
    return in_one.take(pa.array(np.arange(rows * count).reshape(count, rows).T.ravel()))


def unpivot(source: Source, across: object) -> Source:
    """Return a source whose columns across are rows, or the same where there are none."""
    unpivoted = across_of(across)
    return source if unpivoted is None else UnpivotedSource(source, unpivoted)


class NumberParsingSource(SourceWrapper):
    """Another source; what of its columns is wanted as numbers, and is text, is read under rules.

    `rules` are those of all columns, or `infer`; `settled` those of some columns that were
    decided before. `notes` say, after a reading, what was decided and what became blank.
    """

    def __init__(
        self,
        source: Source,
        rules: NumberRules | Literal["infer"],
        settled: Mapping[str, tuple[NumberRules, str]] | None = None,
    ) -> None:
        super().__init__(source)
        self.of_text, self._rules = False, rules  # numbers come as numbers
        self.undecided = self.has_rules = True
        self._settled = dict(settled or {})
        self._blanked: dict[str, dict[str, int]] = {}

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided of columns, and how many values became blank by a word."""
        decided = [
            f"numbers in {name!r}: {'; '.join(marks)}"
            for name, (rules, _) in self._settled.items()
            if (marks := describe_marks(rules))
        ]
        blanked = ", ".join(
            f"{count:,} {word!r} in {name!r}"
            for name, words in self._blanked.items()
            for word, count in words.items()
        )
        left_out = [f"{blanked} read as blank and left out"] if blanked else []
        return (*self.source.notes, *decided, *left_out)

    @property
    def blanked(self) -> Mapping[str, int]:
        """How many values of each column became blank by a word."""
        return {name: sum(words.values()) for name, words in self._blanked.items()}

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, numbers in text as numbers."""
        self._blanked, rows_before = {}, 0
        others = [*request.others, *(n for n in request.numbers if n not in request.others)]
        plain = ColumnRequest(request.date, request.groups, [], others, request.plain_days)
        self.settle(request.numbers)
        for table in self.source.batches(plain):
            columns = {name: table[name] for name in table.column_names}
            for name in request.numbers:
                if is_text(columns[name].type):
                    origin = RowOrigin(self, rows_before)
                    columns[name] = self.as_numbers(columns[name], origin, name)
            rows_before += table.num_rows
            yield pa.table({name: columns[name] for name in request.names})

    def settle(self, names: list[str]) -> Mapping[str, tuple[NumberRules, str]]:
        """Return the rules of some columns of text, decided on all they hold."""
        open_ones = [name for name in names if name not in self._settled]
        if self._rules != "infer" or not open_ones:
            return dict(self._settled)
        beside = [name for name in open_ones if name in self.source.beside]
        own = [name for name in open_ones if name not in beside]
        values_by_name = {name: _differing_texts(self.source.column(name)) for name in beside}
        for table in self.source.batches(ColumnRequest(own[0], others=own)) if own else ():
            for name in own:
                values_by_name[name] = [
                    *values_by_name.get(name, []),
                    *_differing_texts(table[name]),
                ]
        for name, parts in values_by_name.items():
            texts = pa.array(dict.fromkeys(parts), pa.string())
            try:
                self._settled[name] = infer_numbers(texts, name, self.source.decimal)
            except MeasureError as error:
                raise MeasureError(f"{self.name}: {error}") from None
        return dict(self._settled)

    def _rules_of(self, name: str) -> NumberRules:
        if self._rules != "infer":
            rules = self._rules
            return rules if rules.decimal else replace(rules, decimal=self.source.decimal)
        return self._settled[name][0]

    def settles_numbers(self, name: str, texts: Any) -> bool:
        """Return whether the rules read all of a column's different texts as numbers."""
        if self._rules != "infer":
            wrong = read_written(texts, self._rules_of(name))[2]
            return not pc.any(wrong).as_py()
        if name not in self._settled:
            try:
                self._settled[name] = infer_numbers(texts, name, self.source.decimal)
            except MeasureError:
                return False
        return True

    def as_numbers(self, column: pa.ChunkedArray, origin: RowOrigin, name: str) -> pa.ChunkedArray:
        """Return a column of text as numbers under the rules.

        Raises `MeasureError` for what is none.
        """
        self.settle([name])
        texts: Any = column.cast(pa.string()).combine_chunks()
        if isinstance(texts, pa.ChunkedArray):  # a column without rows
            texts = pa.array([], pa.string())
        rules = self._rules_of(name)
        numbers, worded, wrong = read_written(texts, rules)
        row = pc.index(wrong, True).as_py()
        if row >= 0:
            text = texts[row].as_py()
            raise MeasureError(
                f"{self.name}: row {origin.number(row):,} of {name!r}: {text!r} is not a "
                f"number under these rules{cure(text)}"
            )
        if pc.any(worded).as_py():
            counts = self._blanked.setdefault(name, {})
            for word in pc.value_counts(pc.utf8_trim_whitespace(texts.filter(worded))):
                text = word["values"].as_py()
                counts[text] = counts.get(text, 0) + word["counts"].as_py()
        return pa.chunked_array([numbers])


def _differing_texts(column: pa.ChunkedArray) -> list[str | None]:
    """Return a text of each shape in a column, none of one that holds something else."""
    if not is_text(column.type):
        return []
    texts: list[str | None] = one_of_each_shape(pc.unique(column.cast(pa.string()))).to_pylist()
    return texts


def clean_numbers(source: Source, numbers: object) -> Source:
    """Return a source whose numbers are read under rules, or the same where they are strict.

    Raises `MeasureError` for rules that are none.
    """
    rules = number_rules(numbers)
    return source if rules is None else NumberParsingSource(source, rules)
