"""`Long`: a wide source, of which some columns are read as rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.errors import InputError
from eptaro.inputs.columns.wrapped import Wrapped
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.sources import Source, Wanted, check_columns
from eptaro.rules.across import Across, across_of


class Long(Wrapped):
    """Another source; each of its rows becomes as many as there are columns across.

    A row's values follow each other, so that rows keep the order of the input, and their numbers.
    """

    def __init__(self, source: Source, across: Across) -> None:
        super().__init__(source)
        self._across = across
        names = source.names()
        self._wide = across.among(names, source.name)
        self._rest = [name for name in names if name not in self._wide]
        for name in (across.name, across.value):
            if name in self._rest:
                raise InputError(
                    f"{self.name}: there is a column {name!r}; call what stands across otherwise: "
                    f"across='{self._wide[0]}..{self._wide[-1]} as NAME, VALUE'"
                )

    def names(self) -> list[str]:
        """Return the names of the other columns, and those of name and value."""
        return [*self._rest, self._across.name, self._across.value]

    def numbered(self, place: int) -> int:
        """Return the number of the row of the input that a value stands in."""
        return self.source.numbered(place // len(self._wide))

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column as it was written."""
        if name == self._across.value:
            return _in_turn([self.source.digits(column) for column in self._wide])
        return self._repeated(self.source.digits(name))

    def batches(self, wanted: Wanted) -> Iterator[pa.Table]:
        """Yield the wanted columns, a row for each value."""
        check_columns(wanted.names, self.names(), self.name)
        own, value = {self._across.name, self._across.value}, self._across.value
        groups, numbers, others = (
            [name for name in names if name not in own]
            for names in (wanted.groups, wanted.numbers, wanted.others)
        )
        if value in wanted.numbers:
            numbers += self._wide
        elif value in wanted.names:
            others += self._wide
        known = [wanted.date, *groups, *numbers, *others, *self._rest, *self._wide]
        date = next(name for name in known if name not in own)
        for table in self.source.batches(Wanted(date, groups, numbers, others)):
            yield self._long(table).select(wanted.names)

    def whole(self) -> Iterator[pa.Table]:
        """Yield all columns, a row for each value."""
        for table in self.source.whole():
            yield self._long(table)

    def _long(self, table: pa.Table) -> pa.Table:
        columns: dict[str, Any] = {
            name: self._repeated(table[name])
            for name in table.column_names
            if name not in self._wide
        }
        places = np.tile(np.arange(len(self._wide), dtype=np.int32), table.num_rows)
        names = pa.array(self._wide, pa.string())
        columns[self._across.name] = pa.DictionaryArray.from_arrays(pa.array(places), names)
        if {*self._wide} <= {*table.column_names}:
            columns[self._across.value] = _in_turn([table[name] for name in self._wide])
        return pa.table(columns)

    def _repeated(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        return column.take(pa.array(np.repeat(np.arange(len(column)), len(self._wide))))


def _in_turn(columns: Sequence[pa.ChunkedArray]) -> pa.ChunkedArray:
    """Return the values of several columns row by row."""
    parts = [pa.table({"value": column}) for column in columns]
    joined = pa.concat_tables(parts, promote_options="permissive")["value"]
    rows, count = len(columns[0]), len(columns)
    return joined.take(pa.array(np.arange(rows * count).reshape(count, rows).T.ravel()))


def lengthened(given: Any, across: object) -> Any:
    """Return a source whose columns across are rows, or what was given where there are none."""
    asked = across_of(across)
    return given if asked is None else Long(opened_source(given), asked)
