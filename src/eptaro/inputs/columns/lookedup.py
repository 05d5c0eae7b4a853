"""`LookedUp`: a source whose rows take columns of lookup tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.days import FIRST_DAY, Days
from eptaro.inputs.columns.lookuptable import LookupTable
from eptaro.inputs.columns.wrapped import Wrapped
from eptaro.inputs.datecolumn import decided
from eptaro.inputs.dates import read_dates
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.sources import Source, Wanted, check_columns
from eptaro.rules.dates import DateRules
from eptaro.rules.lookups import lookups_of

_SHOWN = 3


class LookedUp(Wrapped):
    """Another source, each row of which takes the columns of the lookup lines with its keys.

    Rows without a match have blanks there; `notes` tell how many there were.
    """

    def __init__(self, source: Source, tables: Sequence[LookupTable], rules: DateRules) -> None:
        super().__init__(source)
        self._rules = rules
        self._tables = tables
        self.beside = frozenset(name for table in tables for name in table.columns)
        check_columns([table.key for table in self._tables], source.names(), source.name)
        self._missed: list[tuple[int, dict[str, None]]] = []
        self._settled = False

    @property
    def notes(self) -> tuple[str, ...]:
        """How many rows have no match in each lookup, and some of their keys."""
        told = []
        for table, (count, keys) in zip(self._tables, self._missed, strict=False):
            if count:
                shown = ", ".join([*map(repr, keys), *(["…"] if len(keys) == _SHOWN else [])])
                many = "1 row has" if count == 1 else f"{count:,} rows have"
                said = f"{many} no match in {table.name} by {table.key!r}"
                told.append(said + (f": {shown}" if keys else ""))
        return (*self.source.notes, *told)

    def names(self) -> list[str]:
        """Return the names of all columns, those of the lookups behind."""
        return [*self.source.names(), *(n for table in self._tables for n in table.columns)]

    def column(self, name: str) -> pa.ChunkedArray:
        """Return one column of all rows, or of a lookup all that rows can take."""
        for table in self._tables:
            if name in table.columns:
                return table.values(name)
        return self.source.column(name)

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns, those of the lookups joined."""
        check_columns(wanted.names, self.names(), self.name)
        self._missed = [(0, {}) for _ in self._tables]
        used = [table for table in self._tables if {*table.columns} & {*wanted.names}]
        taken = {name for table in used for name in table.columns}
        keys = [table.key for table in used]
        keys = [name for name in keys if name not in wanted.numbers]
        groups, numbers, others = (
            [name for name in names if name not in taken]
            for names in (wanted.groups, wanted.numbers, [*wanted.others, *keys])
        )
        self._settle(wanted.date, used)
        for rows in self.source.batches(Wanted(wanted.date, groups, numbers, others)):
            columns = {name: rows[name] for name in rows.column_names}
            days = self._days(rows, wanted.date) if any(t.dated for t in used) else None
            for number, table in enumerate(self._tables):
                if table not in used:
                    continue
                places = table.places(rows[table.key], days if table.dated else None)
                self._miss(number, rows[table.key], places < 0)
                for name in table.columns:
                    if name in wanted.names:
                        as_number = name in wanted.numbers
                        columns[name] = table.column(name, places, as_number=as_number)
            yield pa.table({name: columns[name] for name in wanted.names})

    def _settle(self, date: str, used: Sequence[LookupTable]) -> None:
        if not self._settled and any(table.dated for table in used):
            self._rules, self._settled = decided(self.source, date, self._rules)[0], True

    def _days(self, rows: pa.Table, date: str) -> Days:
        read = read_dates(rows[date], self._rules, date)
        return read.days if read.bad is None else np.where(read.bad, FIRST_DAY - 1, read.days)

    def _miss(self, number: int, keys: pa.ChunkedArray, missed: Any) -> None:
        if not missed.any():
            return
        count, shown = self._missed[number]
        if len(shown) < _SHOWN:
            for key in keys.filter(pa.array(missed)).drop_null().unique()[:_SHOWN].to_pylist():
                if len(shown) < _SHOWN:
                    shown[str(key)] = None
        self._missed[number] = (count + int(np.count_nonzero(missed)), shown)


def looked_up(given: Any, lookups: object, rules: DateRules) -> Any:
    """Return a source with the columns of lookups, or what was given where there are none."""
    asked = lookups_of(lookups)
    if not asked:
        return given
    source = opened_source(given)
    return LookedUp(source, loaded(asked, rules, source.names()), rules)


def loaded(lookups: object, rules: DateRules, names: Sequence[str]) -> list[LookupTable]:
    """Return the tables of lookups beside rows whose columns have names, read into memory."""
    tables: list[LookupTable] = []
    for lookup in lookups_of(lookups):
        taken = [*names, *(name for table in tables for name in table.columns)]
        tables.append(LookupTable(lookup, rules, taken))
    return tables
