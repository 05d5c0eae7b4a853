"""Connections to databases through SQLAlchemy; what these refuse is one clear error."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from eptaro.errors import EptaroError, InputError, refused
from eptaro.extras import need
from eptaro.patience import connection_options


def need_sqlalchemy() -> Any:
    """Return the package that speaks to databases, or raise `InputError`."""
    return need("sqlalchemy", "databases", "reading or writing a database")


@contextmanager
def refusals(url: str) -> Iterator[None]:
    """Turn what a database refuses into `InputError`, in one line and without a password."""
    sql = need_sqlalchemy()
    try:
        yield
    except EptaroError:
        raise
    except (sql.exc.SQLAlchemyError, ImportError, ValueError, OSError) as error:
        raise refused(url, error) from None


def connected(url: str, *, to_write: bool = False) -> Any:
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
    if engine.dialect.name == "sqlite":
        sql.event.listen(engine, "connect", _tell_letters)
    return engine


def _tell_letters(connection: Any, record: Any) -> None:
    """Let SQLite, which knows the letters of English alone, turn all to small or large ones."""
    for name, turned in (("eptaro_lower", str.lower), ("eptaro_upper", str.upper)):
        connection.create_function(name, 1, partial(_turned, turned), deterministic=True)


def _turned(turned: Callable[[str], str], text: Any) -> str | None:
    return None if text is None else turned(str(text))


def _leave_transactions(connection: Any, record: Any) -> None:
    connection.isolation_level = None
    connection.execute("PRAGMA cache_size = -131072")  # KiB: indexes are sorted in memory


def _begin(connection: Any) -> None:
    connection.exec_driver_sql("BEGIN IMMEDIATE")
