"""Tables into databases, through SQLAlchemy, in one transaction or not at all."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal, TypeAlias, assert_never, get_args

import numpy as np

from eptaro.core.calendars.days import as_dates
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.errors import EptaroError, InputError, count_noun, refusal, unknown
from eptaro.optional import import_optional
from eptaro.record import Record, record
from eptaro.timeouts import connection_options
from eptaro.urls import redact_url


def need_sqlalchemy() -> Any:
    """Return the package that speaks to databases, or raise `InputError`."""
    return import_optional("sqlalchemy", "databases", "reading or writing a database")


@contextmanager
def refusals(url: str) -> Iterator[None]:
    """Turn what a database refuses into `InputError`, in one line and without a password."""
    sql = need_sqlalchemy()
    try:
        yield
    except EptaroError:
        raise
    except (sql.exc.SQLAlchemyError, ImportError, ValueError, OSError) as error:
        raise refusal(url, error) from None


def connect(url: str, *, to_write: bool = False) -> Any:
    """Return an engine; where it writes, SQLite's transactions hold table definitions as well."""
    sql = need_sqlalchemy()
    engine = sql.create_engine(url, connect_args=connection_options(url))
    if engine.dialect.name == "sqlite" and not to_write:
        file = engine.url.database
        if file and file != ":memory:" and not Path(file).exists():
            raise InputError(f"{file}: there is no such file")
    elif engine.dialect.name == "sqlite":
        # The driver would end the transaction at CREATE TABLE; here it begins and ends it itself.
        sql.event.listen(engine, "connect", _leave_transactions)
        sql.event.listen(engine, "begin", _begin)
    return engine


def _leave_transactions(connection: Any, record: Any) -> None:
    connection.isolation_level = None
    connection.execute("PRAGMA cache_size = -131072")  # KiB: indexes are sorted in memory


def _begin(connection: Any) -> None:
    connection.exec_driver_sql("BEGIN IMMEDIATE")


LONGEST_NAME = 63  # what every widely used database takes


KEYS = ("date_key", "date")


def tables_of(table: Result, schema: str | None, name: str) -> tuple[Any, Any]:
    """Return the table and the one that describes it."""
    return definition(table, schema, name)[0], dictionary(schema, name)


def key_of(table: Result) -> str:
    """Return the column that identifies the rows of a table: `date_key`, or else `date`."""
    for name in KEYS:
        if name in table:
            return name
    raise InputError(f"a table for a database needs the column {' or '.join(KEYS)} as its key")


def definition(table: Result, schema: str | None, name: str) -> tuple[Any, list[Any]]:
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
    indexes = [sql.Index(_shorten_name(f"ix_{name}_{n}"), target.c[n]) for n in indexed]
    return target, indexes


def _shorten_name(name: str) -> str:
    """Return a name that every database takes, and no other long name is shortened to."""
    if len(name.encode()) <= LONGEST_NAME:
        return name
    digest = hashlib.blake2b(name.encode(), digest_size=6).hexdigest()
    return name.encode()[: LONGEST_NAME - 13].decode(errors="ignore") + "_" + digest


def add_comments(connection: Any, target: Any) -> None:
    """Describe the columns, where the database keeps comments."""
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
    return sql.Table(_shorten_name(f"{name}_columns"), sql.MetaData(), *columns, schema=schema)


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


def insert_rows(connection: Any, target: Any, table: Result) -> None:
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


def _copy(connection: Any, target: Any, table: Result) -> None:
    """Send the rows as CSV, which PostgreSQL takes in bulk."""
    from psycopg import sql

    from eptaro.outputs.arrow import to_arrow
    from eptaro.outputs.text import write_csv_rows

    sink = io.BytesIO()
    write_csv_rows(to_arrow(table), sink, header=False, quoted=True)
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


Mode: TypeAlias = Literal["create", "replace", "extend"]
MODES = get_args(Mode)
_SLICE = 4096  # rows compared at a time
_MARK = "(all)"  # the row of NAME_columns that says who loaded the table


@record
class LoadResult(Record):
    """What a load did: the table's name and how many rows were added."""

    table: str
    added: int
    mode: Mode

    def __str__(self) -> str:
        return f"{count_noun(self.added, 'row')} added to {self.table} ({self.mode})"


def load_table(table: Result, url: str, name: str, mode: Mode = "create") -> LoadResult:
    """Write a table to a database, with its data dictionary beside it as NAME_columns.

    The key is `date_key`, or else `date`; period indexes and the month key are indexed,
    columns have comments where the database has such. `create` refuses where either table
    is, `replace` puts new ones in the place of tables that were loaded so (a row of
    NAME_columns says it), `extend` adds the days that are missing and refuses where a row that
    is says otherwise. All is one transaction.

    Raises `InputError` with what the database refused; nothing is changed then.
    """
    if mode not in MODES:
        raise InputError(unknown("mode", mode, MODES))
    sql = need_sqlalchemy()
    schema, short = _split(name)
    with refusals(url):
        engine = connect(url, to_write=True)
        try:
            with engine.begin() as connection:
                target, words = tables_of(table, schema, short)
                look = sql.inspect(connection)
                every = (target.name, words.name)
                standing = [name for name in every if look.has_table(name, schema=schema)]
                if standing and mode == "create":
                    raise InputError(
                        f"{redact_url(url)}: the table {standing[0]} already exists; use "
                        f"another name, or replace or extend if it was loaded by Eptaro"
                    )
                if short in standing and mode == "extend":
                    added = _extend(connection, table, schema, short)
                else:
                    _clear(connection, target, words, standing)
                    added = _create(connection, table, schema, short)
        except engine.dialect.loaded_dbapi.Error as error:  # of rows sent without SQLAlchemy
            raise refusal(url, error) from None
        finally:
            engine.dispose()
    return LoadResult(name, added, mode)


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
    """Drop the tables that are, if they were loaded by Eptaro; raise `InputError` if not."""
    if not standing:
        return
    sql = need_sqlalchemy()
    marks: list[Any] = []
    if words.name in standing:
        existing = {
            c["name"] for c in sql.inspect(connection).get_columns(words.name, words.schema)
        }
        if existing == set(words.c.keys()):
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


def _create(connection: Any, table: Result, schema: str | None, name: str) -> int:
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


def _extend(connection: Any, table: Result, schema: str | None, name: str) -> int:
    """Add the rows whose key is missing; refuse where one that is says otherwise."""
    sql = need_sqlalchemy()
    existing = sql.Table(name, sql.MetaData(), schema=schema, autoload_with=connection)
    columns, columns_given = [column.name for column in existing.columns], table.names
    if columns != columns_given:
        odd = next(iter(set(columns) ^ set(columns_given)), "their order")
        raise InputError(f"{name}: the existing table has other columns: {odd} is in one only")
    key = key_of(table)
    target, _ = definition(table, schema, name)
    standing = connection.execute(sql.select(target).order_by(target.c[key]))
    have: list[Any] = []
    ours = {row: place for place, row in enumerate(table.column(key).to_list())}
    at = table.names.index(key)
    while rows := standing.fetchmany(_SLICE):
        rows_to_write = [row for row in rows if row[at] in ours]
        if rows_to_write:
            places = [ours[row[at]] for row in rows_to_write]
            have += places
            _check_same(name, key, rows_to_write, table.take(np.array(places)))
    fresh = np.setdiff1d(np.arange(len(table)), np.array(have, np.int64))
    insert_rows(connection, target, table.take(fresh))
    return len(fresh)


def _check_same(name: str, key: str, standing: list[Any], ours: Result) -> None:
    """Raise `InputError` for the first row that is and differs from ours."""
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
