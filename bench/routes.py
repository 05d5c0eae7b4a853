"""The same transactions by every way into a book: engines, files, databases, merging, pickling.

Used by `soak.py`: a question gets the same answer whichever way its book came about.
"""

from __future__ import annotations

import atexit
import datetime as dt
import itertools
import math
import pickle
import random
import sys
import tempfile
from collections.abc import Callable, Iterator
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep

sys.path.insert(0, str(Path(__file__).parents[1]))
FOLDER = tempfile.TemporaryDirectory(prefix="eptaro-soak-")
atexit.register(FOLDER.cleanup)
NUMBERS = itertools.count()


def answers_alike(one: ep.Table, two: ep.Table) -> int:
    """Return how many values two answers share, or -1 where they differ; a value that is too large
    to be shown is refused by both.
    """
    if one.names != two.names or len(one) != len(two):
        return -1
    first, second = _rows_of(one), _rows_of(two)
    if first is None or second is None:
        return 0 if first is second else -1
    count = 0
    for a, b in zip(first, second, strict=True):
        for name, value in a.items():
            if not _alike(value, b[name]):
                return -1
            count += 1
    return count


def _rows_of(table: ep.Table) -> list[dict[str, Any]] | None:
    try:
        return [*table.rows()]
    except ep.MeasureError:
        return None


def _alike(one: Any, two: Any) -> bool:
    numbers = (int, float, Decimal)
    if isinstance(one, float) and isinstance(two, numbers) and not isinstance(two, bool):
        return math.isclose(one, two, rel_tol=1e-9, abs_tol=1e-6)
    if isinstance(one, numbers) and isinstance(two, numbers):
        return one == two if not isinstance(two, float) else _alike(two, one)
    return one == two


def _path(ending: str) -> str:
    return str(Path(FOLDER.name) / f"{next(NUMBERS)}{ending}")


def typed(frame: dict[str, list[Any]]) -> pa.Table:
    """Return the rows with one type for each column, whichever rows are picked."""
    return pa.table(frame)


def parted(table: pa.Table, rng: random.Random) -> list[pa.Table]:
    """Return a table cut in two, the second part perhaps without rows that it would need."""
    cut = rng.randint(1, len(table))
    return [table.slice(0, cut), *([table.slice(cut)] if cut < len(table) else [])]


def merged(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return the book of two that were folded apart."""
    first, *others = (ep.Daybook(part, **asked) for part in parted(table, rng))
    for other in others:
        first = first.merge(other, force=True)
    return first


def pickled(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return a copy of a book."""
    made: ep.Daybook = pickle.loads(pickle.dumps(ep.Daybook(table, **asked)))
    return made


def reopened(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return a book that was written and opened."""
    path = merged(table, asked, rng).write(_path(".parquet"))
    return ep.Daybook.open(path)


def from_files(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> list[str]:
    """Write the rows to files of one kind; return their paths."""
    paths = []
    for part in parted(table, rng):
        paths.append(_path(".parquet"))
        parquet.write_table(part, paths[-1])
    return paths


def streamed(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return the book of files, read piece by piece."""
    return ep.Daybook.read(from_files(table, asked, rng), **asked)


def clustered(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return the book that workers folded."""
    paths = from_files(table, asked, rng)
    return ep.Daybook.read(paths, engine="dask", client=client(), **asked)


@cache
def client() -> Any:
    """Return a client of workers in this process."""
    from distributed import Client

    return Client(
        processes=False, n_workers=1, threads_per_worker=2, dashboard_address="127.0.0.1:0"
    )


@cache
def addresses() -> tuple[str, ...]:
    """Return the databases there are: a file, and a server where its package is installed."""
    from tests.engines.servers import postgresql

    return tuple(filter(None, (f"sqlite:///{_path('.db')}", postgresql())))


def database(table: pa.Table, asked: dict[str, Any], rng: random.Random) -> ep.Daybook:
    """Return the book that a database folded."""
    import sqlalchemy as sql

    engine = sql.create_engine(address := rng.choice(addresses()))
    name = f"t{next(NUMBERS)}"
    columns = [sql.Column(field.name, _sql_type(sql, field.type)) for field in table.schema]
    target = sql.Table(name, sql.MetaData(), *columns)
    with engine.begin() as connection:
        target.create(connection)
        connection.execute(sql.insert(target), table.to_pylist())
    engine.dispose()
    return ep.Daybook.from_sql(address, name, **asked)


def _sql_type(sql: Any, kind: pa.DataType) -> Any:
    if pa.types.is_date(kind):
        return sql.Date()
    if pa.types.is_integer(kind):
        return sql.BigInteger()
    if pa.types.is_decimal(kind):
        return sql.Numeric(38, kind.scale)
    return sql.Double() if pa.types.is_floating(kind) else sql.String(20)


ROUTES: dict[str, Callable[[pa.Table, dict[str, Any], random.Random], ep.Daybook]] = {
    "merged": merged, "pickled": pickled, "reopened": reopened, "streamed": streamed,
    "dask": clustered, "database": database,
}  # fmt: skip


def fits_database(table: pa.Table, asked: dict[str, Any]) -> bool:
    """Return whether a database can be asked: dates without times, no order of rows, and no
    numbers that its own arithmetic would round or refuse.
    """
    measures = " ".join(asked["measures"])
    exact = all(not pa.types.is_decimal(f.type) or f.type.scale <= 4 for f in table.schema)
    dated = pa.types.is_date(table.schema.field("at").type)
    floats = [f.name for f in table.schema if pa.types.is_floating(f.type)]
    if floats and ("std(" in measures or "var(" in measures):
        return False  # a database adds their squares up as floats
    small = all(abs(v or 0) < 1e100 for name in floats for v in table[name].to_pylist())
    return small and exact and dated and "first(" not in measures and "last(" not in measures


def zones(rng: random.Random) -> Iterator[tuple[str, int, bool]]:
    """Yield whether moments up to 2090 fall on the days that the standard library says."""
    from zoneinfo import ZoneInfo

    zone = rng.choice(["Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "Asia/Tokyo",
                       "America/Santiago", "Africa/Casablanca", "Pacific/Auckland"])  # fmt: skip
    begin = dt.datetime(1975, 1, 1, tzinfo=dt.UTC)
    at = [begin + dt.timedelta(seconds=rng.randrange(115 * 365 * 86_400)) for _ in range(60)]
    table = pa.table({"at": pa.array(at, pa.timestamp("us", "UTC"))})
    book = ep.Daybook(table, date="at", measures="n=count()", dates=ep.DateRules(zone=zone))
    group, day = book._store.facts.cells.axis.cells_of()
    del group
    days = {str(ep.Span.of(d, d).first) for d in day[_busy(book)].tolist()}
    yield f"zone {zone}", len(at), days == {str(m.astimezone(ZoneInfo(zone)).date()) for m in at}


def _busy(book: ep.Daybook) -> Any:
    from eptaro.core.aggregation.cells import Plane

    return book._store.facts.cells.tallies[Plane("rows")].whole > 0
