"""The local engine: batches are read and folded one after the other."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import Any, get_args

import numpy as np

from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.folded import Folded, UnmetRows, note_of_blanks
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.results.column import Column
from eptaro.errors import QuestionError, count_noun, unknown
from eptaro.inputs.datecolumn import find_date
from eptaro.inputs.dates.texts import is_whole_date
from eptaro.inputs.files.chunks import translate_errors
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.options import Engine, FoldSpec, ReadOptions
from eptaro.inputs.sources import Source
from eptaro.inputs.transactions import Transactions
from eptaro.option import setting
from eptaro.rules import DateRules, FileRules, number_rules

_WORTH_SAYING = 100  # MiB that values take


def check_engine(engine: str) -> None:
    """Raise `QuestionError` for an engine that there is not."""
    if engine not in get_args(Engine):
        raise QuestionError(unknown("engine", engine, get_args(Engine)))


def source_of(frame: Any, options: ReadOptions) -> Source:
    """Return a source, a file by its path, or a frame as a source: its columns across as rows,
    with the columns of lookups, and its numbers read under rules.
    """
    source = opened_source(frame)
    if options.across is not None:
        from eptaro.inputs.columns.wrapped import unpivot

        source = unpivot(source, options.across)
    if options.lookups:
        from eptaro.inputs.columns.lookups import JoinedSource, load_lookups

        tables = load_lookups(options.lookups, options.rules, source.names())
        source = JoinedSource(source, tables, options.rules) if tables else source
    if number_rules(options.numbers) is not None:
        from eptaro.inputs.columns.wrapped import clean_numbers

        source = clean_numbers(source, options.numbers)
    return source


def fold_table(frame: Any, options: ReadOptions) -> Folded:
    """Return the cells of a source, or of a frame, or of a mapping of arrays."""
    return fold_source(source_of(frame, options), options.spec)


def fold_source(source: Source, spec: FoldSpec, *, in_order: bool = True) -> Folded:
    """Return the cells of all transactions of a source; groups need not be `in_order`.

    Raises `InputError` where the source turns out damaged in between.
    """
    with translate_errors(source.name):
        reading = Ingest(source, spec)
        fold = Fold(spec.by, reading.planes, limit=spec.limit or free_memory() * 4 // 5)
        for batch in reading:
            fold.add(batch)
        if spec.settled and not fold.rows:
            return reading.metadata()  # of a part without a row that counts
        groups, cells = fold.result() if in_order else fold.in_order_met()
        return reading.to_folded(groups, cells, fold)


class Ingest:
    """The transactions of a source on their way into folds, and the metadata of all of them."""

    def __init__(self, source: Source, spec: FoldSpec) -> None:
        self.source, self.by, self.planes = source, spec.by, spec.planes
        self._formulas = spec.formulas
        self._notes: list[str] = []
        if spec.date is None:
            spec = replace(spec, date=find_date(source, spec.rules))
            self._notes.append(
                f"dates are taken from {spec.date!r}, the only column that can be dates"
            )
        date = spec.date_column
        if source.undecided and is_whole_date(date) and date in source.names():
            cure = setting(FileRules, "header_row", "none")
            self._notes.append(
                f"the column of dates is called {date!r}, which is a date itself; if the line "
                f"that names the columns is a row, use {cure}"
            )
        self._read = partial(Transactions, source, spec)
        self._transactions = self._read()
        self._timed = False
        self._counted = 0
        self._ends: tuple[int, int] | None = None

    def __iter__(self) -> Iterator[Batch]:
        for batch in self._transactions:
            self._timed = self._timed or batch.times is not None
            self._counted += len(batch)
            first, last = batch.ends
            least, most = self._ends or (first, last)
            self._ends = min(first, least), max(last, most)
            yield batch

    def to_folded(self, groups: Groups, cells: Cells, fold: Fold) -> Folded:
        """Return all transactions, folded."""
        metadata = self.metadata()
        notes = metadata.notes
        if any(plane.what in ("values", "codes") for plane in self.planes):
            size = cells.memory >> 20
            if size >= _WORTH_SAYING:
                notes += (
                    f"distinct and quantile measures keep all values in memory: {size:,} MiB",
                )
        distinct = fold.distinct_values()
        return replace(metadata, groups=groups, cells=cells, distinct=distinct, notes=notes)

    def some(self, fold: Fold) -> Folded:
        """Return some of the transactions, folded; their input is not described."""
        groups, cells = fold.in_order_met()
        grain = self._transactions.grain or "day"
        return Folded(groups, cells, fold.rows, (), distinct=fold.distinct_values(), grain=grain)

    def metadata(self) -> Folded:
        """Return the metadata of all transactions, once they are read; of no groups or cells."""
        parsed, formulas = self._transactions, self._formulas
        notes = [*self._notes]
        if parsed.evidence:
            notes.append(f"order of dates: {parsed.evidence}")
        if parsed.zone:
            option = setting(DateRules, "zone")
            notes.append(
                f"times are read in the column's own zone, {parsed.zone}; {option} changes it"
            )
        if parsed.untimed:
            rows = count_noun(parsed.untimed, "row")
            notes.append(f"{rows} without a time of day: first of the day, and in no hour")
        notes += [
            note_of_blanks(name, n)
            for name, n in parsed.blanks.items()
            if n != self.source.blanked.get(name, 0) and not formulas.is_conditional(name)
        ]
        if formulas.where is not None:
            notes.append(
                f"{parsed.unmet:,} of {parsed.rows:,} rows do not meet the condition "
                f"{formulas.where.text!r}"
            )
        notes += self.source.notes
        first, last = self._ends or (0, 0)
        if self._ends is None and parsed.seen is not None:
            first, last = parsed.seen.lo, parsed.seen.hi
        nothing = Column.text("", np.array([], object))
        return Folded(
            Groups({name: Categorical(np.zeros(0, np.int32), nothing) for name in self.by}, 0),
            Cells(Axis(0, first, last - first + 1), {}),
            self._counted,
            self.source.inputs,
            parsed.rejected,
            parsed.left_out,
            tuple(notes),
            frozenset([self.source.fingerprint()]),
            reread=partial(self._read, inputs=True),
            timed=self._timed,
            grain=parsed.grain or "day",
            seen=parsed.seen,
            left=None if formulas.where is None else UnmetRows(formulas.where.text, parsed.unmet),
        )


def free_memory() -> int:
    """Return the bytes of memory that are free, or 8 GiB where that cannot be determined."""
    try:
        return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (ValueError, OSError, AttributeError):
        return 8 << 30
