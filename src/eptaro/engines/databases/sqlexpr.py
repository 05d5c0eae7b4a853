"""`SqlExpr`: what a part of an expression is in SQL; and the types that values have there."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from eptaro.record import record


@record
class SqlExpr:
    """A part of an expression in SQL. An exact number is one of units of 10**-scale."""

    sql: Any
    scale: int | None = None  # None: a float, or no number


def without_nan(sql: Any, column: Any) -> Any:
    """Return a column of PostgreSQL whose NaN is a blank: floats have it, and `numeric` too."""
    if isinstance(column.type, sql.Float):
        return sql.func.nullif(column, sql.cast("NaN", sql.Double))
    if isinstance(column.type, sql.Numeric):
        return sql.type_coerce(sql.func.nullif(column, sql.cast("NaN", sql.Numeric)), column.type)
    return column


def stored_day(sql: Any, column: Any) -> Any:
    """Return the day of a date or time that SQLite keeps as text, which is that of its own clock;
    a value that is none, or is a time with an offset, as it is, so that reading refuses it.
    """
    raw = sql.type_coerce(column, sql.String)
    return sql.case((is_stored_day(sql, raw), sql.func.substr(raw, 1, 10)), else_=raw)


def is_stored_day(sql: Any, raw: Any) -> Any:
    """Return whether a text of SQLite is a day, or a day with a time and without an offset."""
    day = sql.func.substr(raw, 1, 10)
    is_a_day = (
        sql.func.date(day, "+0 days") == day
    )  # of the 30th of February it makes a day in March
    clock = sql.func.substr(raw, 12)
    plain = sql.not_(clock.op("GLOB")("*[^0-9:.]*"))
    timed = sql.and_(sql.func.time(clock).is_not(None), clock < "24", plain)
    whole = sql.or_(sql.func.length(raw) == 10, timed)
    return sql.and_(sql.func.typeof(raw) == "text", is_a_day, whole)


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
    for kind, make in kinds:
        if filled and all(isinstance(value, kind) for value in filled):
            return make()
    if filled and all(isinstance(value, int | float) for value in filled):
        return sql.Double()
    return sql.String()
