"""Text from data that must stay text, whatever program opens it."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from eptaro.core.table import Table

_FORMULA = re.compile(r"[=@\t\r]|[+-](?!\d*[.,]?\d*$)")


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
    return Table(columns, table.meta)
