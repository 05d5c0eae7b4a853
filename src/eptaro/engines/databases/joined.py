"""Lookups inside a database: tables of its own, joined to the rows by their keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from eptaro.engines.databases.queries import Queried
from eptaro.errors import InputError
from eptaro.rules.lookups import Lookup

_MATCH, _FAR = "eptaro_match", "9999-12-31"


def joined(rows: Queried, lookups: Sequence[Lookup], date: str) -> tuple[Queried, tuple[str, ...]]:
    """Return rows with the columns of lookups, and how many have no match in each.

    Raises `InputError` where a lookup is no table of the database, or has a key twice.
    """
    notes: list[str] = []
    for lookup in lookups:
        if not isinstance(lookup.table, str):
            raise InputError(
                f"{rows.name}: the lookups of from_sql are tables of the database; load this one "
                f"there, or fold the rows with Daybook.read and a query"
            )
        table = Queried.of(rows.engine, lookup.table, rows.name)
        rows, missed = _with(rows, table, lookup, date)
        if missed:
            many = "1 row has" if missed == 1 else f"{missed:,} rows have"
            notes.append(f"{many} no match in {lookup.table} by {lookup.key!r}")
    return rows, tuple(notes)


def _with(rows: Queried, table: Queried, lookup: Lookup, date: str) -> tuple[Queried, int]:
    """Return rows with the columns of one lookup, and how many have no match."""
    sql, key = rows.sql, table.column(lookup.key_of_table)
    names = [column.name for column in table.rows.columns]
    dated = lookup.first in names
    apart = {lookup.key_of_table, *((lookup.first, lookup.through) if dated else ())}
    own = [column.name for column in rows.rows.columns]
    exposed = lookup.exposed([name for name in names if name not in apart], own)
    matching = rows.column(lookup.key) == key
    lines: Any = table.rows
    if dated:
        lines = _until(table, lookup)
        key = lines.columns[lookup.key_of_table]
        day, first = rows.column(date), lines.columns[lookup.first]
        matching = sql.and_(
            rows.column(lookup.key) == key, day >= first, day <= lines.columns["eptaro_until"]
        )
    _check(rows, table, lookup, dated=dated)
    taken = [lines.columns[name].label(own) for own, name in exposed.items()]
    made = (
        sql.select(*rows.rows.columns, *taken, key.is_not(None).label(_MATCH))
        .select_from(rows.rows.outerjoin(lines, matching))
        .subquery(f"eptaro_with_{lookup.table.replace('.', '_')}")
    )
    with rows.engine.connect() as connection:
        query = sql.select(sql.func.count()).where(sql.not_(made.columns[_MATCH]))
        missed = int(connection.execute(query).scalar())
    kept = [column for column in made.columns if column.name != _MATCH]
    scales = {own: table.scales[n] for own, n in exposed.items() if n in table.scales}
    whole = sql.select(*kept).subquery(f"{made.name}_kept")
    return replace(rows, rows=whole, scales={**scales, **rows.scales}), missed


def _until(table: Queried, lookup: Lookup) -> Any:
    """Return the lines of a dated lookup, each with the last day on which it holds."""
    sql, first = table.sql, table.column(lookup.first)
    following = sql.func.lead(first).over(
        partition_by=table.column(lookup.key_of_table), order_by=first
    )
    if table.engine.dialect.name == "sqlite":
        before = sql.func.date(following, "-1 day")
        far: Any = _FAR
    else:
        before = sql.cast(following - sql.text("interval '1 day'"), sql.Date)
        far = sql.cast(_FAR, sql.Date)
    names = [column.name for column in table.rows.columns]
    open_end = sql.func.coalesce(before, far)
    until = open_end
    if lookup.through in names:
        until = sql.func.coalesce(table.column(lookup.through), open_end)
    return sql.select(*table.rows.columns, until.label("eptaro_until")).subquery(
        f"eptaro_until_{lookup.table.replace('.', '_')}"
    )


def _check(rows: Queried, table: Queried, lookup: Lookup, *, dated: bool) -> None:
    """Raise `InputError` for a key that is there twice, or twice on one day."""
    sql, key = table.sql, table.column(lookup.key_of_table)
    if dated:
        lines = _until(table, lookup)
        key, first = lines.columns[lookup.key_of_table], lines.columns[lookup.first]
        before, began = (
            sql.func.lag(column).over(partition_by=key, order_by=first)
            for column in (lines.columns["eptaro_until"], first)
        )
        pairs = sql.select(
            key.label("k"), first.label("f"), before.label("b"), began.label("a")
        ).subquery("pairs")
        twice = sql.or_(pairs.columns.b >= pairs.columns.f, pairs.columns.a == pairs.columns.f)
        query = sql.select(pairs.columns.k).where(twice).limit(1)
    else:
        query = (
            sql.select(key)
            .where(key.is_not(None))
            .group_by(key)
            .having(sql.func.count() > 1)
            .order_by(key)
            .limit(1)
        )
    with rows.engine.connect() as connection:
        found = connection.execute(query).fetchone()
    if found is not None:
        when = " on one day" if dated else ""
        raise InputError(
            f"{rows.name}: {lookup.table}: the key {found[0]!r} is there twice{when}; which line "
            f"counts is not known"
        )
