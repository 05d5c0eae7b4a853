"""Conditions on the columns of a table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eptaro.core.calendars.days import Flags
from eptaro.core.expressions.evaluate import evaluated
from eptaro.core.expressions.formula import Formula
from eptaro.core.expressions.functions import Kind

if TYPE_CHECKING:
    from eptaro.core.tables.column import Column
    from eptaro.core.tables.table import Table


def met(table: Table, where: str) -> Flags:
    """Return which rows of a table meet a condition; a comparison with a blank is not met."""
    formula = Formula.condition(where)
    columns = {name: table.column(name) for name in formula.names}
    kinds = {name: _kind(column) for name, column in columns.items()}
    found = evaluated(formula.node, formula.text, columns, kinds, len(table), {})
    kept: Flags = (found.data != 0) & ~found.blank
    return kept


def _kind(column: Column) -> Kind:
    match column.kind:
        case "text":
            return Kind.TEXT
        case "date":
            return Kind.DATE
        case "flag":
            return Kind.FLAG
        case _:
            return Kind.NUMBER
