"""Tables of a database as SQLAlchemy defines them, and rows into them."""

from __future__ import annotations

import hashlib
import io
from typing import Any, assert_never

import numpy as np

from eptaro.core.calendars.days import as_dates
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.errors import InputError
from eptaro.outputs.connections import need_sqlalchemy

LONGEST_NAME = 63  # what every widely used database takes


KEYS = ("date_key", "date")


def tables_of(table: Table, schema: str | None, name: str) -> tuple[Any, Any]:
    """Return the table and the one that describes it."""
    return definition(table, schema, name)[0], dictionary(schema, name)


def key_of(table: Table) -> str:
    """Return the column that tells the rows of a table apart: `date_key`, or else `date`."""
    for name in KEYS:
        if name in table:
            return name
    raise InputError(f"a table for a database needs the column {' or '.join(KEYS)} as its key")


def definition(table: Table, schema: str | None, name: str) -> tuple[Any, list[Any]]:
    """Return the table as SQLAlchemy describes it (types, key, comments), and its indexes."""
    sql = need_sqlalchemy()
    key = key_of(table)
    columns = [
        sql.Column(
            column.name,
            _type(column),
            primary_key=column.name == key,
            autoincrement=False,
            comment=column.description or None,
        )
        for column in table.columns
    ]
    indexed = [n for n in table.names if n.endswith("_index") or n == "year_month_key"]
    indexed += [n for n in KEYS if n in table and n != key]
    target = sql.Table(name, sql.MetaData(), *columns, schema=schema)
    indexes = [sql.Index(_shortened(f"ix_{name}_{n}"), target.c[n]) for n in indexed]
    return target, indexes


def _shortened(name: str) -> str:
    """Return a name that every database takes, and no other long name is shortened to."""
    if len(name.encode()) <= LONGEST_NAME:
        return name
    digest = hashlib.blake2b(name.encode(), digest_size=6).hexdigest()
    return name.encode()[: LONGEST_NAME - 13].decode(errors="ignore") + "_" + digest


def add_comments(connection: Any, target: Any) -> None:
    """Tell what the columns hold, where the database keeps such remarks apart."""
    sql = need_sqlalchemy()
    dialect = connection.dialect
    if dialect.supports_comments and not dialect.inline_comments:
        for column in target.columns:
            if column.comment:
                connection.execute(sql.schema.SetColumnComment(column))


def dictionary(schema: str | None, name: str) -> Any:
    """Return the table that describes the columns."""
    sql = need_sqlalchemy()
    columns = [sql.Column("column", sql.String(200), primary_key=True)]
    columns += [sql.Column(word, sql.Text) for word in ("kind", "unit", "description")]
    return sql.Table(_shortened(f"{name}_columns"), sql.MetaData(), *columns, schema=schema)


def _type(column: Column) -> Any:
    sql = need_sqlalchemy()
    match column.kind:
        case "integer":
            data = column.data
            wide = len(data) and max(abs(int(data.min())), abs(int(data.max()))) >= 1 << 31
            return sql.BigInteger() if wide else sql.Integer()
        case "decimal":
            return sql.Numeric(18, column.scale)
        case "float":
            return sql.Double()
        case "date":
            return sql.Date()
        case "flag":
            return sql.Boolean()
        case "text":
            words = [] if column.choices is None else column.choices.tolist()
            return sql.String(max([len(str(word)) for word in words], default=1) + 20)
        case _:
            assert_never(column.kind)


def insert_rows(connection: Any, target: Any, table: Table) -> None:
    """Insert rows the fastest way that the database offers."""
    if not len(table):
        return
    driver = (connection.dialect.name, connection.dialect.driver)
    if driver == ("postgresql", "psycopg"):
        _copy(connection, target, table)
    elif driver == ("sqlite", "pysqlite"):
        lists = [plain_values(column) for column in table.columns]
        statement = str(target.insert().compile(dialect=connection.dialect))
        cursor = connection.connection.cursor()
        cursor.executemany(statement, zip(*lists, strict=True))
    else:
        sql = need_sqlalchemy()
        connection.execute(sql.insert(target), list(table.rows()))


def _copy(connection: Any, target: Any, table: Table) -> None:
    """Send the rows as CSV, which PostgreSQL takes in bulk."""
    from psycopg import sql

    from eptaro.outputs.text import write_csv_rows

    sink = io.BytesIO()
    write_csv_rows(table.to_arrow(), sink, header=False, quoted=True)
    cursor = connection.connection.driver_connection.cursor()
    place = [part for part in (target.schema, target.name) if part]
    statement = sql.SQL("COPY {} ({}) FROM STDIN (FORMAT csv)").format(
        sql.Identifier(*place), sql.SQL(", ").join(map(sql.Identifier, table.names))
    )
    with cursor.copy(statement) as copy:
        copy.write(sink.getvalue())


def plain_values(column: Column) -> list[Any]:
    """Return values as the SQLite driver takes them: dates as ISO text, flags as 0 and 1."""
    if column.kind == "date":
        values: list[Any] = np.datetime_as_string(as_dates(column.data), unit="D").tolist()
    elif column.kind == "flag":
        values = column.data.astype(np.int64).tolist()
    elif column.kind == "decimal":
        return [None if value is None else float(value) for value in column.to_list()]
    else:
        return column.to_list()
    for blank in np.flatnonzero(column.blank).tolist():
        values[blank] = None
    return values
