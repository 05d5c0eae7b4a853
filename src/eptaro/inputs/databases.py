"""The rows of a database query as a source, by SQLAlchemy."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.addresses import shown_address
from eptaro.errors import InputError, refused
from eptaro.extras import need
from eptaro.inputs.sources import Source, TableSource
from eptaro.patience import connection_options


def query_source(url: str, query: str | None) -> Source:
    """Return the rows of a query as a source.

    Raises `InputError` where there is no query, or the database refuses.
    """
    if not query:
        raise InputError(
            f"{shown_address(url)}: a database needs a query, such as 'SELECT * FROM sales' (files "
            f"are read from file://, s3://, gs:// and abfss://, and from what fsspec knows)"
        )
    file = url.removeprefix("sqlite:///")
    plain = file.partition("?")[0]
    if file != url and plain and not plain.startswith("file:") and not Path(plain).exists():
        raise InputError(f"{plain}: there is no such file")
    sql = need("sqlalchemy", "databases", "reading a database")
    try:
        engine = sql.create_engine(url, connect_args=connection_options(url))
        with engine.connect() as connection:
            result = connection.execute(sql.text(query))
            names, rows = list(result.keys()), result.fetchall()
    except (sql.exc.SQLAlchemyError, ImportError, ValueError, OSError) as error:
        raise refused(url, error) from None
    made: list[Any] = [list(column) for column in zip(*rows, strict=True)]
    columns = made or [[] for _ in names]
    try:
        table = pa.table([pa.array(column) for column in columns], names)
    except pa.ArrowException as error:
        raise InputError(f"{shown_address(url)}: a column mixes kinds of values: {error}") from None
    return TableSource(table, shown_address(url))
