"""Tables into databases, through SQLAlchemy, in one transaction or not at all."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, get_args

import numpy as np

from eptaro.addresses import shown_address
from eptaro.core.tables.outlets import Mode
from eptaro.core.tables.table import Table
from eptaro.errors import InputError, refused, unknown
from eptaro.outputs.connections import connected, need_sqlalchemy, refusals
from eptaro.outputs.sqltables import (
    LONGEST_NAME,
    add_comments,
    definition,
    dictionary,
    insert_rows,
    key_of,
    tables_of,
)

MODES = get_args(Mode)
_SLICE = 4096  # rows compared at a time
_MARK = "(all)"  # the row of NAME_columns that says who loaded the table


@dataclass(frozen=True)
class Loaded:
    """What a load did: the table's name and how many rows were added."""

    table: str
    added: int
    mode: Mode

    def __str__(self) -> str:
        return f"{self.added:,} rows added to {self.table} ({self.mode})"


def load_table(table: Table, url: str, name: str, mode: Mode = "create") -> Loaded:
    """Write a table to a database, with its data dictionary beside it as NAME_columns.

    The key is `date_key`, or else `date`; period indexes and the month key are indexed,
    columns have comments where the database has such. `create` refuses where either table
    stands, `replace` puts new ones in the place of tables that were loaded so (a row of
    NAME_columns says it), `extend` adds the days that are missing and refuses where a row that
    stands says otherwise. All is one transaction.

    Raises `InputError` with what the database refused; nothing is changed then.
    """
    if mode not in MODES:
        raise InputError(unknown("mode", mode, MODES))
    sql = need_sqlalchemy()
    schema, short = _split(name)
    with refusals(url):
        engine = connected(url, to_write=True)
        try:
            with engine.begin() as connection:
                target, words = tables_of(table, schema, short)
                look = sql.inspect(connection)
                every = (target.name, words.name)
                standing = [one for one in every if look.has_table(one, schema=schema)]
                if standing and mode == "create":
                    raise InputError(
                        f"{shown_address(url)}: the table {standing[0]} already exists; use "
                        f"another name, or replace or extend if it was loaded by Eptaro"
                    )
                if short in standing and mode == "extend":
                    added = _extend(connection, table, schema, short)
                else:
                    _clear(connection, target, words, standing)
                    added = _create(connection, table, schema, short)
        except engine.dialect.loaded_dbapi.Error as error:  # of rows sent without SQLAlchemy
            raise refused(url, error) from None
        finally:
            engine.dispose()
    return Loaded(name, added, mode)


def _split(name: str) -> tuple[str | None, str]:
    """Return schema and name of a table written as `name` or `schema.name`."""
    schema, dot, short = name.rpartition(".")
    for part in (schema, short) if dot else (short,):
        wrong = any(ord(letter) < 32 or letter == "." for letter in part)
        if not part or len(part) > LONGEST_NAME or wrong:
            raise InputError(
                f"{name!r} cannot name a table; write name or schema.name, of at most "
                f"{LONGEST_NAME} letters each"
            )
    return (schema if dot else None), short


def _clear(connection: Any, target: Any, words: Any, standing: list[str]) -> None:
    """Drop the tables that stand, if they were loaded by Eptaro; raise `InputError` if not."""
    if not standing:
        return
    sql = need_sqlalchemy()
    marks: list[Any] = []
    if words.name in standing:
        found = {c["name"] for c in sql.inspect(connection).get_columns(words.name, words.schema)}
        if found == set(words.c.keys()):
            query = sql.select(words.c.description).where(words.c.column == _MARK)
            marks = list(connection.execute(query).scalars())
    if marks != [_made_by(target.name)]:
        raise InputError(
            f"the table {standing[0]} already exists and was not loaded by Eptaro (its columns "
            f"are not described in {words.name}); nothing was changed: use another name, or drop "
            f"the table yourself"
        )
    for old in (target, words):
        old.drop(connection, checkfirst=True)


def _made_by(name: str) -> str:
    return f"{name} was loaded by Eptaro, which may replace it; version 1"


def _create(connection: Any, table: Table, schema: str | None, name: str) -> int:
    """Fill a new table, and the one that describes it."""
    sql = need_sqlalchemy()
    target, indexes = definition(table, schema, name)
    words = dictionary(schema, name)
    connection.execute(sql.schema.CreateTable(target))
    words.create(connection)
    insert_rows(connection, target, table)
    for index in indexes:  # after the rows: sorted once rather than at every row
        index.create(connection)
    add_comments(connection, target)
    mark = {"column": _MARK, "kind": "", "unit": "", "description": _made_by(name)}
    connection.execute(sql.insert(words), [*table.describe().rows(), mark])
    return len(table)


def _extend(connection: Any, table: Table, schema: str | None, name: str) -> int:
    """Add the rows whose key is missing; refuse where one that stands says otherwise."""
    sql = need_sqlalchemy()
    found = sql.Table(name, sql.MetaData(), schema=schema, autoload_with=connection)
    columns, wanted = [column.name for column in found.columns], table.names
    if columns != wanted:
        odd = next(iter(set(columns) ^ set(wanted)), "their order")
        raise InputError(f"{name}: the existing table has other columns: {odd} is in one only")
    key = key_of(table)
    target, _ = definition(table, schema, name)
    standing = connection.execute(sql.select(target).order_by(target.c[key]))
    have: list[Any] = []
    ours = {row: place for place, row in enumerate(table.column(key).to_list())}
    at = table.names.index(key)
    while rows := standing.fetchmany(_SLICE):
        kept = [row for row in rows if row[at] in ours]
        if kept:
            places = [ours[row[at]] for row in kept]
            have += places
            _check_same(name, key, kept, table.take(np.array(places)))
    fresh = np.setdiff1d(np.arange(len(table)), np.array(have, np.int64))
    insert_rows(connection, target, table.take(fresh))
    return len(fresh)


def _check_same(name: str, key: str, standing: list[Any], ours: Table) -> None:
    """Raise `InputError` for the first row that stands and differs from ours."""
    for column, there in zip(ours.columns, zip(*standing, strict=True), strict=True):
        here = column.to_list()
        if list(there) == here:
            continue
        row = next(i for i, (a, b) in enumerate(zip(there, here, strict=True)) if a != b)
        raise InputError(
            f"{name}: the row of {key} {ours.column(key).to_list()[row]} says {column.name} is "
            f"{there[row]!r}, and here it is {here[row]!r}; nothing was added. Use replace, or the "
            f"calendars that it was made with"
        )
