"""The fold inside a database: one grouped query, of which only cells come back."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.axis import cells_axis
from eptaro.core.aggregation.cells import Cells, Plane, Tally
from eptaro.core.aggregation.encoding import CategoryEncoder, GroupEncoder
from eptaro.core.aggregation.folded import Folded, UnmetRows, note_of_blanks
from eptaro.core.aggregation.selected import SelectedValues, ValueLists
from eptaro.core.aggregation.sums import Squares, Sum
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.parser import Formulas
from eptaro.core.kernels import bigint
from eptaro.core.measures.measure import Measure
from eptaro.core.query.query import Filter
from eptaro.core.results.column import Column, ColumnKind
from eptaro.core.results.result import Result
from eptaro.digest import digest_of
from eptaro.engines.databases.queries import (
    DAY,
    GROUPED,
    LIMB,
    LISTED,
    REFUSED,
    ROWS,
    SqlTable,
    key_names,
)
from eptaro.errors import DateError, InputError, MeasureError, show_option
from eptaro.inputs.columns.codes import read_codes, read_groups
from eptaro.inputs.columns.kinds import only_picked
from eptaro.inputs.dates.reading import read_dates, settled_start
from eptaro.inputs.options import SqlOptions
from eptaro.option import setting
from eptaro.outputs.databases import connect, refusals
from eptaro.record import record
from eptaro.rules import DateRules, Lookup, lookups_of
from eptaro.urls import redact_url


@record
class FetchedColumns:
    """What came back: columns of the grouped query, those of the listed ones, and the queries."""

    columns: Mapping[str, list[Any]]
    listed: Mapping[Plane, Mapping[str, list[Any]]]
    queries: tuple[str, ...]
    scales: Mapping[str, int]
    floats: frozenset[str]
    centres: Mapping[str, int]


class Keys:
    """The day and group of each row of a result; rows without a readable day are distinguished."""

    def __init__(
        self, columns: Mapping[str, list[Any]], by: list[str], rules: DateRules, name: str
    ) -> None:
        self.read = read_dates(array_of(columns[DAY]), rules, "date")
        bad = self.read.bad
        self.good = np.ones(len(columns[DAY]), bool) if bad is None else ~bad
        self.day = self.read.days[self.good].astype(np.int64)
        self.coded = {
            group: read_groups(array_of(columns[key]), group, name).at(self.good)
            for group, key in zip(by, key_names(by)[1:], strict=True)
        }


def array_of(values: list[Any]) -> pa.ChunkedArray:
    """Return a result's column as Arrow has it; sums of mixed kinds are brought together."""
    try:
        return pa.chunked_array([pa.array(values)])
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.chunked_array([pa.array([None if v is None else str(v) for v in values])])


def tally_of(plane: Plane, result: FetchedColumns, good: NDArray[np.bool_]) -> Tally:
    """Return a plane of the grouped query with one cell per good row of the result."""
    name, column = f"{plane.what}:{plane.column}", plane.column
    match plane.what:
        case "rows":
            return Sum(np.array(result.columns[ROWS], np.int64)[good])
        case "filled":
            return Sum(np.array(_good_values(result, name, good), np.int64))
        case "sum":
            return Sum.of(*_numbers(_good_values(result, name, good), column, result))
        case "square":
            return _squares(plane, result, name, good)
        case "min" | "max":
            values = _good_values(result, name, good)
            at = np.flatnonzero(np.array([value is not None for value in values], bool))
            zeros = np.zeros(len(at), np.int64)
            filled = [value for value in values if value is not None]
            if filled and isinstance(filled[0], dt.date):
                days = np.array(filled, "datetime64[D]").astype(np.int64)
                return SelectedValues(plane.what, at, days, zeros, at, "date")
            if filled and isinstance(filled[0], str):
                words = np.array([*filled, None], object)[:-1]
                every, places = np.unique(words, return_inverse=True)
                return SelectedValues(plane.what, at, places, zeros, at, "text", choices=every)
            data, kind, scale = _numbers(values, column, result)
            return SelectedValues(plane.what, at, data[at], zeros, at, kind, scale)
        case _:
            raise MeasureError(f"{plane.what}({column}) is not of the grouped query")


def _good_values(result: FetchedColumns, name: str, good: NDArray[np.bool_]) -> list[Any]:
    """Return the values of a column in the good rows."""
    values = zip(_values(result, name), good.tolist(), strict=True)
    return [value for value, fits in values if fits]


def _values(result: FetchedColumns, name: str) -> list[Any]:
    """Return a column of the grouped query; sums may come in two halves of 32 bits."""
    if name in result.columns:
        return result.columns[name]
    halves = zip(result.columns[f"{name}:high"], result.columns[f"{name}:low"], strict=True)
    return [None if high is None else (int(high) << 32) + int(low) for high, low in halves]


def _squares(plane: Plane, result: FetchedColumns, name: str, good: NDArray[np.bool_]) -> Squares:
    columns = result.columns
    if f"{name}:00" in columns:
        scale = result.scales.get(plane.column, 0)
        products = {
            pair: np.array([*(int(v or 0) for v in columns[f"{name}:{pair}"]), None], object)
            for pair in ("00", "01", "02", "11", "12", "22")
        }
        squares = sum(
            (products[pair][:-1] << LIMB * (4 - int(pair[0]) - int(pair[1])))
            * (1 if pair[0] == pair[1] else 2)
            for pair in products
        )
        exact_squares = np.asarray(squares, object)[good]
        return Squares.of_exact(exact_squares, "decimal" if scale else "integer", scale)
    values = [v for v, fits in zip(columns[name], good.tolist(), strict=True) if fits]
    if plane.column in result.floats:
        data = np.array([0.0 if v is None else float(v) for v in values])
        if not np.isfinite(data).all():
            raise MeasureError(f"the squares of {plane.column!r} do not fit into floats")
        return Squares.of_floats(data, result.centres.get(plane.column, 0))
    _, kind, scale = _numbers(_values(result, f"sum:{plane.column}"), plane.column, result)
    units = [0 if v is None else _units(Decimal(v), 2 * scale) for v in values]
    return Squares.of_exact(np.array([*units, None], object)[:-1], kind, scale)


def _numbers(
    values: list[Any], column: str, result: FetchedColumns
) -> tuple[NDArray[Any], ColumnKind, int]:
    """Return values in whole units, their kind and decimals; 0 where there is none."""
    if column in result.scales:
        scale = result.scales[column]
        return _whole_numbers(values), "decimal" if scale else "integer", scale
    if column in result.floats or any(isinstance(value, float) for value in values):
        return np.array([0.0 if v is None else float(v) for v in values]), "float", 0
    if any(isinstance(value, str) for value in values):
        raise MeasureError(f"column {column!r} holds text; a sum needs numbers")
    decimals = [Decimal(0) if value is None else Decimal(value) for value in values]
    places = [-int(value.as_tuple().exponent) for value in decimals if value.is_finite()]
    scale = max([0, *places])
    units = [_units(value, scale) for value in decimals]
    return _whole_numbers(units), "decimal" if scale else "integer", scale


def _units(value: Decimal, scale: int) -> int:
    """Return a decimal as whole units of 10**-scale, however many digits it has."""
    over, under = value.as_integer_ratio()
    return int(over * 10**scale // under)


def _whole_numbers(values: list[Any]) -> NDArray[Any]:
    """Return whole numbers, 0 where there is none."""
    units = [0 if value is None else int(value) for value in values]
    return bigint.narrow_integers(np.array([*units, None], object)[:-1])


def entries_of(
    plane: Plane, listed: Mapping[str, list[Any]], keys: Keys, cell: Ints
) -> tuple[ValueLists, Column | None]:
    """Return all values of a column, each as often as it was counted."""
    good_keys = keys.good.tolist()
    values = [v for v, good in zip(listed["eptaro_value"], good_keys, strict=True) if good]
    counts = np.array(listed[ROWS], np.int64)[keys.good]
    if plane.what == "codes":
        there = np.array([value == value for value in values], bool)  # NaN is none
        cell, values = cell[there], [value for value in values if value == value]
        encoder = CategoryEncoder(plane.column, words=True)
        codes = encoder.encode(read_codes(array_of(values), plane.column)).astype(np.int64)
        return ValueLists.of(cell, codes, "integer", 0), encoder.to_categorical().choices
    if any(isinstance(value, float) for value in values):
        data: NDArray[Any] = np.array(values, np.float64)
        there = ~np.isnan(data)
        cell, data, counts = cell[there], data[there], counts[there]
        return ValueLists.of(np.repeat(cell, counts), np.repeat(data, counts), "float", 0), None
    decimals = [Decimal(value) for value in values]
    scale = max([0, *(-int(value.as_tuple().exponent) for value in decimals)])
    units = _whole_numbers([_units(value, scale) for value in decimals])
    kind: ColumnKind = "decimal" if scale else "integer"
    return ValueLists.of(np.repeat(cell, counts), np.repeat(units, counts), kind, scale), None


_MOST_ASIDE = 100_000
_COUNTED = ("rows", "filled", "codes")  # of which no number is taken


def fold_database(url: str, what: str, options: SqlOptions) -> Folded:
    """Fold a table or query inside its database.

    Sums, counts, least and largest values come from one grouped query; distinct values and
    quantiles from one more per column, which counts each value per day. The outcome equals
    a fold of the rows themselves, exactly for whole numbers and decimals.

    Raises `MeasureError` for first and last, which need an order that a table has not.
    """
    name, spec, scope = redact_url(url), options.spec, Filter.of_database(options.only)
    date, formulas, rules = spec.date_column, spec.formulas, spec.rules
    if rules.fiscal_periods and date in formulas.columns:
        month = setting(DateRules, "grain", "month")
        raise DateError(
            f"{show_option('date', date)}: a database does not calculate fiscal periods; ask for a "
            f"query with both numbers in one, SELECT year * 100 + period AS period, with {month}"
        )
    wanted_planes = options.book.kept_planes
    _check_members(options.book.measures)
    for plane in wanted_planes:
        if plane.what in REFUSED:
            raise MeasureError(f"{plane.what}({plane.column}) {REFUSED[plane.what]}")
        if plane.what not in GROUPED + LISTED:
            raise TypeError(f"no rule says how a database calculates {plane}")
    with refusals(url):
        engine = connect(url)
        try:
            rows = SqlTable.of(engine, what, name)
            rows, missed = join_lookups(rows, lookups_of(options.lookups))
            columns = {*formulas.names, *(plane.column for plane in wanted_planes)}
            rows = rows.with_column_types(columns - {date})
            uses = (use for formula in formulas.every for use in formula.uses)
            rows.check_days({use.name for use in uses if use.dated} - {date})
            days = None
            if formulas.where is not None:
                narrowing = {date, *scope.wanted}
                own = {n: formula for n, formula in formulas.columns.items() if n in narrowing}
                every = rows.working_out(replace(formulas, columns=own, where=None), date)
                days = _days(every, date, rules, every.where(date, scope))
            if formulas:
                rows = rows.working_out(formulas, date)
            where = rows.where(date, scope)
            numbers = _columns_of_numbers(rows, wanted_planes)
            planes = [*dict.fromkeys([*wanted_planes, *(Plane("filled", n) for n in numbers)])]
            result = _query_planes(rows, date, spec.by, planes, rules, where)
        finally:
            engine.dispose()
    if days is not None and not len(result.columns[ROWS]):
        assert formulas.where is not None
        raise InputError(f"{name}: no row meets the condition {formulas.where.text!r}")
    folded = _build_folded(result, name, what, spec.by, planes, rules)
    notes = _notes_of_blanks(folded, numbers, formulas)
    kept = {plane: folded.cells.tallies[plane] for plane in wanted_planes}
    cells = Cells(folded.cells.axis, kept)
    folded = replace(folded, cells=cells, notes=(*notes, *folded.notes, *missed))
    return folded if days is None else _with_condition(folded, formulas, *days)


def _columns_of_numbers(rows: SqlTable, planes: Sequence[Plane]) -> list[str]:
    """Return the columns whose numbers are measured."""
    picked = {name for name in only_picked(planes) if rows.is_text_or_date(name)}
    return sorted({p.column for p in planes if p.what not in _COUNTED} - picked)


def _notes_of_blanks(folded: Folded, numbers: list[str], formulas: Formulas) -> Iterator[str]:
    """Yield how many values of each column of numbers are blank."""
    cells, whole = folded.cells, (np.zeros(1, np.int64), np.full(1, folded.cells.axis.size))
    for column in numbers:
        blank = folded.rows - int(cells.sums(Plane("filled", column), *whole).data[0])
        if blank and not formulas.is_conditional(column):
            yield note_of_blanks(column, blank)


def _check_members(measures: Sequence[Measure]) -> None:
    """Raise `MeasureError` for totals of each value of a column: rows are needed for these."""
    terms = [term for measure in measures for term in measure.terms]
    for term in [*terms, *(part for whole in terms for part in whole.parts)]:
        if term.members is not None:
            raise MeasureError(
                f"{term} needs the rows, of which a database returns totals per day; read a query "
                f"with Daybook.read"
            )


def _days(rows: SqlTable, date: str, rules: DateRules, where: list[Any]) -> tuple[Span | None, int]:
    """Return the days of all rows, and how many there are, before any condition."""
    with rows.engine.connect() as connection:
        days = connection.execute(rows.days(date, rules, where)).fetchall()
    columns = {DAY: [row[0] for row in days]}
    keys = Keys(columns, [], rules, rows.name)
    span = Span.of(int(keys.day.min()), int(keys.day.max())) if len(keys.day) else None
    return span, sum(row[1] for row in days)


def _with_condition(folded: Folded, formulas: Formulas, covered: Span | None, rows: int) -> Folded:
    assert formulas.where is not None
    rejected = 0 if folded.rejected is None else len(folded.rejected)
    left_out = UnmetRows(formulas.where.text, rows - folded.rows - rejected)
    note = f"{left_out.rows:,} of {rows:,} rows do not meet the condition {left_out.where!r}"
    return replace(folded, seen=covered, left=left_out, notes=(*folded.notes, note))


def _query_planes(
    rows: SqlTable,
    date: str,
    by: list[str],
    planes: list[Plane],
    rules: DateRules,
    where: list[Any],
) -> FetchedColumns:
    """Ask the database all that the planes need."""
    summed = [p for p in planes if p.what in GROUPED and p.what != "rows"]
    floats = frozenset(p.column for p in planes if p.column and rows.is_float(p.column))
    queries = []
    rows.check_numbers(_columns_of_numbers(rows, planes))
    with rows.engine.connect() as connection:
        centres = {}
        for column in {p.column for p in summed if p.what == "square"} & floats:
            mean = connection.execute(
                rows.sql.select(rows.sql.func.avg(rows.column(column))).where(*where)
            ).scalar()
            centres[column] = round(mean) if mean is not None and abs(mean) < 2**53 else 0
        query = rows.fold_query(date, by, summed, rules, centres, where)
        queries.append(rows.shown(query))
        columns = _columns(connection.execute(query))
        listed = {}
        for plane in planes:
            if plane.what in LISTED:
                query = rows.values_query(date, by, plane.column, rules, where)
                queries.append(rows.shown(query))
                listed[plane] = _columns(connection.execute(query))
    return FetchedColumns(columns, listed, tuple(queries), rows.scales, floats, centres)


def _columns(result: Any) -> dict[str, list[Any]]:
    names = list(result.keys())
    columns = [list(column) for column in zip(*result.fetchall(), strict=True)]
    return dict(zip(names, columns or [[] for _ in names], strict=True))


def _build_folded(
    result: FetchedColumns,
    name: str,
    what: str,
    by: list[str],
    planes: list[Plane],
    rules: DateRules,
) -> Folded:
    columns = result.columns
    counts = np.array(columns[ROWS], np.int64)
    if not len(counts):
        raise InputError(f"{name}: {what} has no rows to fold")
    rules = settled_start([array_of(columns[DAY])], rules, "date")
    keys = Keys(columns, by, rules, name)
    rejected = _rejected_rows(keys, columns[DAY], counts)
    if rejected is not None and (rules.bad_dates == "raise" or not keys.good.any()):
        reasons = "; ".join(f"{row['value']!r}: {row['reason']}" for row in [*rejected.rows()][:3])
        raise DateError(f"{name}: {len(rejected):,} rows of {what} have no date: {reasons}")
    combiner = GroupEncoder(by)
    number = combiner.number(keys.coded)
    groups, rank = combiner.ranked_groups()
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
            tallies[plane] = tally.move(cell, axis.size)
    return Folded(
        groups,
        Cells(axis, tallies),
        int(counts[keys.good].sum()),
        (f"{name} {what}",),
        rejected,
        {},
        (),
        frozenset([digest_of(f"{name} {result.queries} {counts.sum()}")]),
        distinct,
        queries=result.queries,
        grain=keys.read.grain or "day",
    )


def _rejected_rows(keys: Keys, values: list[Any], counts: Ints) -> Result | None:
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
    return Result(
        [
            Column.of("row", "integer", np.zeros(len(at)), blank, description="Row, not known"),
            Column.text("value", np.array([*texts, None], object)[:-1], at, description="Value"),
            Column.text("reason", np.array([*reasons, None], object)[:-1], at, description="Why"),
        ]
    )


_MATCH = "eptaro_match"


def join_lookups(rows: SqlTable, lookups: Sequence[Lookup]) -> tuple[SqlTable, tuple[str, ...]]:
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
        table = SqlTable.of(rows.engine, lookup.table, rows.name)
        rows, missed = _join_lookup(rows, table, lookup)
        if missed:
            many = "1 row has" if missed == 1 else f"{missed:,} rows have"
            notes.append(f"{many} no match in {lookup.table} by {lookup.key!r}")
    return rows, tuple(notes)


def _join_lookup(rows: SqlTable, table: SqlTable, lookup: Lookup) -> tuple[SqlTable, int]:
    """Return rows with the columns of one lookup, and how many have no match."""
    sql, key = rows.sql, table.column(lookup.key_of_table)
    names = [column.name for column in table.rows.columns]
    if lookup.first in names:
        raise InputError(
            f"{rows.name}: the lines of {lookup.table} hold from a day on ({lookup.first!r}), and "
            f"such a table is not joined in a database; join it in a view or a query, or fold the "
            f"rows with Daybook.read and a query"
        )
    own = [column.name for column in rows.rows.columns]
    exposed = lookup.exposed_names([name for name in names if name != lookup.key_of_table], own)
    _check(rows, table, lookup)
    lookup_columns = [table.rows.columns[name].label(own) for own, name in exposed.items()]
    matched = (
        sql.select(*rows.rows.columns, *lookup_columns, key.is_not(None).label(_MATCH))
        .select_from(rows.rows.outerjoin(table.rows, rows.column(lookup.key) == key))
        .subquery(f"eptaro_with_{lookup.table.replace('.', '_')}")
    )
    with rows.engine.connect() as connection:
        query = sql.select(sql.func.count()).where(sql.not_(matched.columns[_MATCH]))
        missed = int(connection.execute(query).scalar())
    own_columns = [column for column in matched.columns if column.name != _MATCH]
    scales = {own: table.scales[n] for own, n in exposed.items() if n in table.scales}
    whole = sql.select(*own_columns).subquery(f"{matched.name}_good_values")
    return replace(rows, rows=whole, scales={**scales, **rows.scales}), missed


def _check(rows: SqlTable, table: SqlTable, lookup: Lookup) -> None:
    """Raise `InputError` for a key that is there twice."""
    sql, key = table.sql, table.column(lookup.key_of_table)
    query = sql.select(key).where(key.is_not(None)).group_by(key).having(sql.func.count() > 1)
    with rows.engine.connect() as connection:
        duplicate = connection.execute(query.order_by(key).limit(1)).fetchone()
    if duplicate is not None:
        raise InputError(
            f"{rows.name}: {lookup.table}: the key {duplicate[0]!r} is there twice; "
            f"which line counts is not known"
        )
