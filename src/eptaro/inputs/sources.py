"""`Source`: where transactions come from; files and frames look alike from here on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa

from eptaro.core.errors import InputError, unknown


@dataclass(frozen=True)
class Wanted:
    """The columns that a fold needs, by what they are needed for."""

    date: str
    groups: list[str] = field(default_factory=list)
    values: list[str] = field(default_factory=list)

    @property
    def names(self) -> list[str]:
        """All of them, each once."""
        return list(dict.fromkeys([self.date, *self.groups, *self.values]))


class Source:
    """Transactions that can be read by column; `of_text` where numbers are written out."""

    name: str
    of_text = False

    def read(self, wanted: Wanted) -> pa.Table:
        """Return the wanted columns; raises `InputError` when one is missing."""
        raise NotImplementedError

    def digits(self, name: str) -> pa.ChunkedArray:
        """Return a column's numbers as they were written; only of a source of text."""
        raise NotImplementedError


def check_columns(wanted: Wanted, present: Iterable[str], source: str) -> None:
    """Raise `InputError` for the first wanted column that is missing or there twice."""
    names = list(present)
    for name in wanted.names:
        if name not in names:
            raise InputError(f"{source}: {unknown('column', name, names)}")
        if names.count(name) > 1:
            raise InputError(f"{source}: two columns are called {name!r}; rename one of them")


class FrameSource(Source):
    """A frame that speaks the Arrow C stream protocol, or a mapping of names to arrays."""

    def __init__(self, frame: Any) -> None:
        self.name = "the table given"
        if hasattr(frame, "__arrow_c_stream__"):
            self._table = _plain_text(pa.table(frame))
        elif isinstance(frame, Mapping):
            self._table = _from_mapping(frame)
        else:
            raise InputError(
                f"{type(frame).__name__} is neither a frame that speaks the Arrow C stream "
                f"protocol nor a mapping of column names to arrays; for a file use Daybook.read"
            )

    def read(self, wanted: Wanted) -> pa.Table:
        """Return the wanted columns."""
        check_columns(wanted, self._table.column_names, self.name)
        return self._table.select(wanted.names)

    def rows(self) -> list[dict[str, Any]]:
        """Return the rows as mappings; only for small tables."""
        found: list[dict[str, Any]] = self._table.to_pylist()
        return found


def _plain_text(table: pa.Table) -> pa.Table:
    """Return the table with views of text, which few functions take, as plain text."""
    for place, column in enumerate(table.schema):
        if pa.types.is_string_view(column.type):
            plain = column.with_type(pa.large_string())
            table = table.set_column(place, plain, table.column(place).cast(plain.type))
    return table


def _from_mapping(frame: Mapping[str, Any]) -> pa.Table:
    arrays = {}
    for name, values in frame.items():
        try:
            arrays[str(name)] = pa.array(values)
        except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError) as error:
            raise InputError(f"the table given: column {name!r} cannot be used: {error}") from None
    lengths = {name: len(values) for name, values in arrays.items()}
    if len(set(lengths.values())) > 1:
        raise InputError(f"the table given: its columns differ in length: {lengths}")
    return pa.table(arrays)
