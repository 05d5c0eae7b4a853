"""Text from data that must stay text, whatever program opens it."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.tables.table import Table

# A formula may begin after spaces, and with the wide forms of its marks; -5 and +1.5 are numbers.
_FORMULA = re.compile(
    r"[\t\r\n]|\s*(?:[=@\uff1d\uff20]|[+\-\uff0b\uff0d](?!(?:\d+[.,]?\d*|[.,]\d+)\Z))"
)
_MAY_BE_FORMULA = r"^\s*[=@+\-\x{ff1d}\x{ff20}\x{ff0b}\x{ff0d}]|^[\t\r\n]"


def guarded(text: str) -> str:
    """Return a text that no spreadsheet takes for a formula: an apostrophe goes before it.

    Plain numbers such as `-5` and `+1.5` stay as they are.

    >>> guarded("=1+1"), guarded("-5"), guarded("-cmd"), guarded("Fenholm")
    ("'=1+1", '-5', "'-cmd", 'Fenholm')
    """
    return f"'{text}" if _FORMULA.match(text) else text


def guarded_table(table: Table) -> Table:
    """Return a table whose text, and the names of whose columns, are guarded."""
    columns = []
    for column in table.columns:
        safe = replace(column, name=guarded(column.name))
        if column.kind == "text" and column.choices is not None:
            words = column.choices.tolist()
            if any(isinstance(word, str) and _FORMULA.match(word) for word in words):
                kept = [guarded(word) if isinstance(word, str) else word for word in words]
                safe = replace(safe, choices=np.array([*kept, None], object)[:-1])
        columns.append(safe)
    return Table(columns, table.meta, table.answer)


def guarded_rows(rows: pa.Table) -> pa.Table:
    """Return an Arrow table whose text is guarded; its column names are guarded where written."""
    for place, field in enumerate(rows.schema):
        if not (pa.types.is_string(field.type) or pa.types.is_large_string(field.type)):
            continue
        column = rows.column(place)
        if pc.any(pc.match_substring_regex(column, _MAY_BE_FORMULA)).as_py():
            words = pc.unique(column)
            safe = pa.array([w if w is None else guarded(w) for w in words.to_pylist()], field.type)
            rows = rows.set_column(place, field, safe.take(pc.index_in(column, words)))
    return rows
