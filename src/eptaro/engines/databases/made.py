"""`Made`: what a part of an expression is in SQL; and the types that values have there."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any


@dataclass(frozen=True, eq=False)
class Made:
    """A part of an expression in SQL. An exact number is one of units of 10**-scale."""

    sql: Any
    scale: int | None = None  # None: a float, or no number


def kind_of_values(sql: Any, values: Sequence[Any]) -> Any:
    """Return the type of a query's column, by its first values."""
    filled = [value for value in values if value is not None]
    kinds = (
        (bool, sql.Boolean),
        (int, sql.BigInteger),
        (float, sql.Double),
        (Decimal, sql.Numeric),
        (dt.datetime, sql.DateTime),
        (dt.date, sql.Date),
    )
    for kind, made in kinds:
        if filled and all(isinstance(value, kind) for value in filled):
            return made()
    if filled and all(isinstance(value, int | float) for value in filled):
        return sql.Double()
    return sql.String()
