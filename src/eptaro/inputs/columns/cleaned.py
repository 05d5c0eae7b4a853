"""`Cleaned`: a source whose numbers in text are read under rules."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any, Literal

import pyarrow as pa
import pyarrow.compute as pc

from eptaro.errors import MeasureError
from eptaro.inputs.columns.numbers import cure, infer_numbers, read_written
from eptaro.inputs.columns.values import Placed
from eptaro.inputs.columns.wrapped import Wrapped
from eptaro.inputs.dates.outcome import is_text
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.sources import Source, Wanted
from eptaro.rules.numbers import NumberRules, number_rules


class Cleaned(Wrapped):
    """Another source; what of its columns is wanted as numbers, and is text, is read under rules.

    `rules` are those of all columns, or `infer`; `settled` those of some columns that were
    decided before. `notes` tell, after a reading, what was decided and what became blank.
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
        decided = [f"numbers in {n!r}: {told}" for n, (_, told) in self._settled.items() if told]
        blanked = [
            f"{count:,} {word!r} in {name!r} count as blank"
            for name, words in self._blanked.items()
            for word, count in words.items()
        ]
        return (*self.source.notes, *decided, *blanked)

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns, numbers in text as numbers."""
        self._blanked, done = {}, 0
        others = [*wanted.others, *(n for n in wanted.numbers if n not in wanted.others)]
        plain = Wanted(wanted.date, wanted.groups, [], others)
        self.settle(wanted.numbers)
        for table in self.source.batches(plain):
            columns = {name: table[name] for name in table.column_names}
            for name in wanted.numbers:
                if is_text(columns[name].type):
                    placed = Placed(self, done)
                    columns[name] = self.as_numbers(columns[name], placed, name)
            done += table.num_rows
            yield pa.table({name: columns[name] for name in wanted.names})

    def settle(self, names: list[str]) -> Mapping[str, tuple[NumberRules, str]]:
        """Return the rules of some columns of text, decided on all they hold."""
        open_ones = [name for name in names if name not in self._settled]
        if self._rules != "infer" or not open_ones:
            return dict(self._settled)
        beside = [name for name in open_ones if name in self.source.beside]
        own = [name for name in open_ones if name not in beside]
        held = {name: _different(self.source.column(name)) for name in beside}
        for table in self.source.batches(Wanted(own[0], others=own)) if own else ():
            for name in own:
                held[name] = [*held.get(name, []), *_different(table[name])]
        for name, parts in held.items():
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

    def as_numbers(self, column: pa.ChunkedArray, placed: Placed, name: str) -> Any:
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
                f"{self.name}: row {placed.number(row):,} of {name!r}: {text!r} is not a "
                f"number under these rules{cure(text)}"
            )
        if pc.any(worded).as_py():
            counts = self._blanked.setdefault(name, {})
            for word in pc.value_counts(pc.utf8_trim_whitespace(texts.filter(worded))):
                text = word["values"].as_py()
                counts[text] = counts.get(text, 0) + word["counts"].as_py()
        return numbers


def _different(column: pa.ChunkedArray) -> list[str | None]:
    """Return the different texts of a column, none of one that holds something else."""
    if not is_text(column.type):
        return []
    found: list[str | None] = pc.unique(column.cast(pa.string())).to_pylist()
    return found


def cleaned(given: Any, numbers: object) -> Any:
    """Return a source whose numbers are read under rules, or what was given where they are strict.

    Raises `MeasureError` for rules that are none.
    """
    rules = number_rules(numbers)
    return given if rules is None else Cleaned(opened_source(given), rules)
