"""The fold inside a database: one grouped query, of which only cells come back."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.addresses import shown_address
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.formula import PLAIN, Formulas
from eptaro.core.folds.axis import cells_axis
from eptaro.core.folds.cells import Cells, Tally
from eptaro.core.folds.encoding import Combiner
from eptaro.core.folds.folded import Folded, Left
from eptaro.core.folds.planes import Plane
from eptaro.core.questions.scope import Scope
from eptaro.core.tables.column import Column
from eptaro.core.tables.table import Table
from eptaro.engines.databases.joined import joined
from eptaro.engines.databases.planes import entries_of, tally_of
from eptaro.engines.databases.queries import DAY, GROUPED, LISTED, REFUSED, ROWS, Queried
from eptaro.engines.databases.results import Keys, Result, array_of
from eptaro.errors import DateError, InputError, MeasureError
from eptaro.inputs.columns.picked import only_picked
from eptaro.inputs.dates.reading import settled_start
from eptaro.outputs.connections import connected, refusals
from eptaro.rules.dates import DateRules
from eptaro.rules.lookups import Lookups, lookups_of

_MOST_ASIDE = 100_000


def fold_database(
    url: str,
    what: str,
    date: str,
    by: Sequence[str],
    planes: Iterable[Plane],
    rules: DateRules,
    scope: Scope,
    formulas: Formulas = PLAIN,
    lookups: Lookups = None,
) -> Folded:
    """Fold a table or query inside its database.

    Sums, counts, least and largest values come from one grouped query; distinct values and
    quantiles from one more per column, which counts each value per day. The outcome equals
    a fold of the rows themselves, exactly for whole numbers and decimals.

    Raises `MeasureError` for first and last, which need an order that a table has not.
    """
    name = shown_address(url)
    wanted_planes = sorted({Plane("rows"), *planes})
    for plane in wanted_planes:
        if plane.what in REFUSED:
            raise MeasureError(f"{plane.what}({plane.column}) {REFUSED[plane.what]}")
        if plane.what not in GROUPED + LISTED:
            raise TypeError(f"it is not said how a database makes {plane}")
    with refusals(url):
        engine = connected(url)
        try:
            rows = Queried.of(engine, what, name)
            rows, missed = joined(rows, lookups_of(lookups), date)
            columns = {*formulas.names, *(plane.column for plane in wanted_planes)}
            rows = rows.settled(columns - {date})
            where = rows.where(date, scope)
            days = None if formulas.where is None else _days(rows, date, rules, where)
            if formulas:
                rows = rows.working_out(formulas, date)
                where = rows.where(date, scope)
            result = _asked(rows, date, list(by), wanted_planes, rules, where)
        finally:
            engine.dispose()
    if days is not None and not len(result.columns[ROWS]):
        assert formulas.where is not None
        raise InputError(f"{name}: no row meets the condition {formulas.where.text!r}")
    folded = _folded(result, name, what, list(by), wanted_planes, rules)
    folded = replace(folded, notes=(*folded.notes, *missed))
    return folded if days is None else _with_condition(folded, formulas, *days)


def _days(rows: Queried, date: str, rules: DateRules, where: list[Any]) -> tuple[Span | None, int]:
    """Return the days of all rows, and how many there are, before any condition."""
    with rows.engine.connect() as connection:
        found = connection.execute(rows.days(date, rules, where)).fetchall()
    columns = {DAY: [row[0] for row in found]}
    keys = Keys(columns, [], rules, rows.name)
    span = Span.of(int(keys.day.min()), int(keys.day.max())) if len(keys.day) else None
    return span, sum(row[1] for row in found)


def _with_condition(folded: Folded, formulas: Formulas, seen: Span | None, rows: int) -> Folded:
    assert formulas.where is not None
    aside = 0 if folded.aside is None else len(folded.aside)
    left = Left(formulas.where.text, rows - folded.rows - aside)
    said = f"{left.rows:,} of {rows:,} rows do not meet the condition {left.where!r}"
    return replace(folded, seen=seen, left=left, notes=(*folded.notes, said))


def _asked(
    rows: Queried, date: str, by: list[str], planes: list[Plane], rules: DateRules, where: list[Any]
) -> Result:
    """Ask the database all that the planes need."""
    summed = [p for p in planes if p.what in GROUPED and p.what != "rows"]
    floats = frozenset(p.column for p in planes if p.column and rows.is_float(p.column))
    queries = []
    counted = ("rows", "filled", "codes")
    said = {name for name in only_picked(planes) if rows.is_said(name)}
    rows.check_numbers(sorted({p.column for p in planes if p.what not in counted} - said))
    with rows.engine.connect() as connection:
        centres = {}
        for column in {p.column for p in summed if p.what == "square"} & floats:
            mean = connection.execute(
                rows.sql.select(rows.sql.func.avg(rows.column(column))).where(*where)
            ).scalar()
            centres[column] = round(mean) if mean is not None and abs(mean) < 2**53 else 0
        query = rows.folded(date, by, summed, rules, centres, where)
        queries.append(rows.shown(query))
        columns = _columns(connection.execute(query))
        listed = {}
        for plane in planes:
            if plane.what in LISTED:
                query = rows.listed(date, by, plane.column, rules, where)
                queries.append(rows.shown(query))
                listed[plane] = _columns(connection.execute(query))
    return Result(columns, listed, tuple(queries), rows.scales, floats, centres)


def _columns(result: Any) -> dict[str, list[Any]]:
    names = list(result.keys())
    made = [list(column) for column in zip(*result.fetchall(), strict=True)]
    return dict(zip(names, made or [[] for _ in names], strict=True))


def _folded(
    result: Result, name: str, what: str, by: list[str], planes: list[Plane], rules: DateRules
) -> Folded:
    columns = result.columns
    counts = np.array(columns[ROWS], np.int64)
    if not len(counts):
        raise InputError(f"{name}: {what} has no rows to fold")
    rules = settled_start([array_of(columns[DAY])], rules, "date")
    keys = Keys(columns, by, rules, name)
    aside = _aside(keys, columns[DAY], counts)
    if aside is not None and (rules.bad_dates == "raise" or not keys.good.any()):
        shown = "; ".join(f"{row['value']!r}: {row['reason']}" for row in [*aside.rows()][:3])
        raise DateError(f"{name}: {len(aside):,} rows of {what} have no date: {shown}")
    combiner = Combiner(by)
    number = combiner.number(keys.coded)
    groups, rank = combiner.ranked()
    group = np.zeros(len(keys.day), np.int64) if number is None else rank[number]
    axis, cell = cells_axis(group, keys.day, groups.count)
    tallies: dict[Plane, Tally] = {}
    distinct = {}
    for plane in planes:
        if plane.what in LISTED:
            listed = result.listed[plane]
            own = Keys(listed, by, rules, name)
            numbers = combiner.number(own.coded)
            places = np.zeros(len(own.day), np.int64) if numbers is None else rank[numbers]
            at = axis.cell_of(places, own.day)
            tallies[plane], values = entries_of(plane, listed, own, at)
            if values is not None:
                distinct[plane.column] = values
        else:
            tally = tally_of(plane, result, keys.good)
            tallies[plane] = tally.moved(cell, axis.size)
    digest = hashlib.blake2b(f"{name} {result.queries} {counts.sum()}".encode(), digest_size=16)
    return Folded(
        groups,
        Cells(axis, tallies),
        int(counts[keys.good].sum()),
        (f"{name} {what}",),
        aside,
        {},
        (),
        frozenset([digest.hexdigest()]),
        distinct,
        queries=result.queries,
        grain=keys.read.grain or "day",
    )


def _aside(keys: Keys, values: list[Any], counts: Ints) -> Table | None:
    """Return the rows without a readable date, one by one; None where there are none."""
    if keys.good.all():
        return None
    bad = np.flatnonzero(~keys.good)
    assert keys.read.reasons is not None
    many = counts[bad]
    if many.sum() > _MOST_ASIDE:
        raise DateError(
            f"{int(many.sum()):,} rows have no readable date, such as {values[bad[0]]!r}"
        )
    at = np.repeat(np.arange(len(bad)), many)
    texts = ["" if values[i] is None else str(values[i]) for i in bad.tolist()]
    reasons = [str(keys.read.reasons[i]) for i in bad.tolist()]
    blank = np.zeros(len(at), bool)
    return Table(
        [
            Column.of("row", "integer", np.zeros(len(at)), blank, description="Row, not known"),
            Column.text("value", np.array([*texts, None], object)[:-1], at, description="Value"),
            Column.text("reason", np.array([*reasons, None], object)[:-1], at, description="Why"),
        ]
    )
