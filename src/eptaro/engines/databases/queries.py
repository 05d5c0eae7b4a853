"""The grouped queries that fold a table inside its database, built with SQLAlchemy Core.

Names are quoted and values bound by SQLAlchemy; nothing here is glued from text but a
query that the user gives as such.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from eptaro.core.aggregation.cells import Plane, What
from eptaro.core.expressions.parser import Formulas
from eptaro.core.query.query import Filter
from eptaro.engines.databases.expressions import Translator
from eptaro.engines.databases.sqlexpr import is_stored_day, kind_of_values, stored_day, without_nan
from eptaro.errors import DateError, InputError, MeasureError, QuestionError, unknown
from eptaro.optional import import_optional
from eptaro.record import record
from eptaro.rules import DateRules

# Of every plane that a fold keeps it is given here how a database makes it, if it does.
GROUPED: tuple[What, ...] = ("rows", "filled", "sum", "square", "min", "max")
LISTED: tuple[What, ...] = ("values", "codes")  # each value per day and group, and how often
_UNORDERED = (
    "depends on the order of rows, which a database table does not have; use min or max, or read "
    "a query that orders them with Daybook.read"
)
REFUSED: Mapping[What, str] = {"first": _UNORDERED, "last": _UNORDERED}

DAY, ROWS = "eptaro_day", "eptaro_rows"
LIMB = 21  # bits of each third of a value, whose products are added up in 64 bits
_HALF = (1 << 32) - 1
_SELECT = re.compile(r"\s*(select|with)\s", re.IGNORECASE)


@record
class SqlTable:
    """A table or query of a database, its columns, and how its values are counted.

    `scales` holds the decimals of columns that the database keeps as floats although they
    are declared as decimals (SQLite); there they are summed as whole units.
    """

    sql: Any
    engine: Any
    rows: Any
    name: str
    scales: Mapping[str, int]

    @classmethod
    def of(cls, engine: Any, what: str, name: str) -> SqlTable:
        """Look up a table (`name` or `schema.name`) or take a query."""
        sql = import_optional("sqlalchemy", "databases", "reading a database")
        if _SELECT.match(what):
            with engine.connect() as connection:
                probe = connection.execute(sql.text(what))
                columns = list(probe.keys())
                first = probe.fetchmany(100)
            types = [kind_of_values(sql, [row[i] for row in first]) for i in range(len(columns))]
            typed = [sql.column(c, kind) for c, kind in zip(columns, types, strict=True)]
            rows = sql.text(what).columns(*typed).subquery("eptaro_rows_of_query")
            return cls(sql, engine, rows, name, {})
        schema, _, short = what.rpartition(".")
        look = sql.inspect(engine)
        places = [(schema or None, short), (None, what)]
        place = next(((s, n) for s, n in places if n and look.has_table(n, schema=s)), None)
        if place is None:
            tables = [*look.get_table_names(), *look.get_view_names()]
            raise InputError(f"{name}: {unknown('table', what, tables)}")
        table = sql.Table(place[1], sql.MetaData(), schema=place[0], autoload_with=engine)
        scales = {}
        if engine.dialect.name == "sqlite":
            exact = [c for c in table.columns if isinstance(c.type, sql.Numeric)]
            exact = [c for c in exact if not isinstance(c.type, sql.Float)]
            for column in exact:
                if column.type.scale is None:  # a number of any decimals, which it keeps as a float
                    column.type = sql.Double()
                else:
                    scales[column.name] = column.type.scale
        return cls(sql, engine, table, name, scales)

    @property
    def _lite(self) -> bool:
        """Whether the database is SQLite, which keeps any value in a column of any type."""
        return bool(self.engine.dialect.name == "sqlite")

    def with_column_types(self, names: Iterable[str]) -> SqlTable:
        """Return the rows with the types that columns really have.

        SQLite keeps other values than a column declares: numbers with more decimals are floats.
        Raises `DateError` for a date or time that is none, or has an offset.
        """
        columns_by_name = {column.name: column for column in self.rows.columns}
        used = [columns_by_name[name] for name in dict.fromkeys(names) if name in columns_by_name]
        if not self._lite:
            return self
        scales = dict(self.scales)
        for column in used:
            whole = isinstance(column.type, self.sql.Integer) or column.name in scales
            if whole and self._has(self._has_more_decimals(column)):
                column.type = self.sql.Double()
                scales.pop(column.name, None)
            elif isinstance(column.type, self.sql.Date | self.sql.DateTime):
                self._check_days(column)
        return replace(self, scales=scales)

    def _has_more_decimals(self, column: Any) -> Any:
        """Return the condition that a value has more decimals than its column declares."""
        sql, scale = self.sql, self.scales.get(column.name, 0)
        units = sql.type_coerce(column, sql.Float) * 10.0**scale
        far = sql.func.abs(units - sql.func.round(units)) > 1e-6 * sql.func.max(
            1.0, sql.func.abs(units) * 1e-9
        )
        return sql.and_(sql.func.typeof(sql.type_coerce(column, sql.String)) == "real", far)

    def _has(self, condition: Any) -> bool:
        query = self.sql.select(1).select_from(self.rows).where(condition).limit(1)
        with self.engine.connect() as connection:
            return connection.execute(query).first() is not None

    def _check_days(self, column: Any) -> None:
        sql = self.sql
        raw = sql.type_coerce(column, sql.String)
        query = sql.select(raw).where(raw.is_not(None), sql.not_(is_stored_day(sql, raw))).limit(1)
        with self.engine.connect() as connection:
            bad = connection.execute(query).scalar()
        if bad is not None:
            raise DateError(
                f"{self.name}: {bad!r} of {column.name!r} is not a date, or a time without an "
                f"offset, as 2025-08-20 14:05; fold such rows with Daybook.read and a query, which "
                f"takes zone="
            )

    def working_out(self, formulas: Formulas, date: str) -> SqlTable:
        """Return the rows that meet a condition, with columns that are calculated."""
        rows, scales = Translator(
            self.sql, self.engine.dialect.name, self.rows, self.scales, date
        ).subquery(formulas)
        return replace(self, rows=rows, scales=scales)

    def days(self, date: str, rules: DateRules, where: Sequence[Any]) -> Any:
        """Return the query that counts the rows of each day."""
        day = self.day(date, rules)
        return self.sql.select(day.label(DAY), self.sql.func.count()).where(*where).group_by(day)

    def column(self, name: str) -> Any:
        """Return a column; raises `InputError` for one that is not there."""
        names = [column.name for column in self.rows.columns]
        if name not in names:
            raise InputError(f"{self.name}: {unknown('column', name, names)}")
        return self.rows.columns[name]

    def check_numbers(self, names: Sequence[str]) -> None:
        """Raise `MeasureError` for a column that holds text, which a database may add up as 0."""
        sql = self.sql
        for name in names:
            column = self.column(name)
            if isinstance(column.type, sql.String):
                raise MeasureError(
                    f"{self.name}: column {name!r} holds {column.type}; this needs numbers"
                )
            if self.engine.dialect.name != "sqlite":
                continue
            text = sql.func.typeof(sql.type_coerce(column, sql.String)) == "text"
            with self.engine.connect() as connection:
                query = sql.select(sql.type_coerce(column, sql.String)).where(text).limit(1)
                bad = connection.execute(query).scalar()
            if bad is not None:
                raise MeasureError(f"{self.name}: column {name!r} holds {bad!r}, no number")

    def check_days(self, names: Iterable[str]) -> None:
        """Raise `InputError` for text that is compared with a date, and is not written as one."""
        sql = self.sql
        for name in names:
            column = self.rows.columns.get(name)
            if column is None or not isinstance(column.type, sql.String):
                continue
            days = sql.or_(*(column.like(f"____-__-__{more}") for more in ("", " %", "T%")))
            time = sql.func.substr(column, 12)
            offset = sql.or_(*(time.like(f"%{mark}%") for mark in ("+", "-", "Z")))
            odd = sql.or_(sql.not_(days), offset)
            query = sql.select(column).where(column != "", odd).limit(1)
            with self.engine.connect() as connection:
                bad = connection.execute(query).scalar()
            if bad is not None:
                raise InputError(
                    f"{self.name}: column {name!r} is compared with a date, and holds {bad!r}: "
                    f"text is taken for dates only where all of it is written as 2025-08-20, with "
                    f"or without a time; cast it in a view or a query, or read it with Daybook.read"
                )

    # ---- the queries ------------------------------------------------------------

    def day(self, date: str, rules: DateRules) -> Any:
        """Return what rows are grouped by: the day of a timestamp, or the value as it is."""
        sql, column = self.sql, self.column(date)
        if rules.time is not None:
            raise DateError(
                f"{self.name}: times of day in a column of their own ({rules.time!r}) are not read "
                f"in a database; fold it with Daybook.read and a query instead"
            )
        if self._lite and isinstance(column.type, sql.Date):
            return stored_day(sql, column)
        if not isinstance(column.type, sql.DateTime):
            return column
        if rules.zone or rules.shift or getattr(column.type, "timezone", False):
            raise DateError(
                f"{self.name}: {date!r} holds timestamps with a zone, or a zone or day_starts is "
                f"asked for, which the database would apply its own way; fold it with "
                f"Daybook.read and a query instead"
            )
        return stored_day(sql, column) if self._lite else sql.cast(column, sql.Date)

    def fold_query(
        self,
        date: str,
        by: Sequence[str],
        planes: Sequence[Plane],
        rules: DateRules,
        centres: Mapping[str, int],
        where: Sequence[Any],
    ) -> Any:
        """Return the query that gives one row per day and group, with all summed planes."""
        keys = [self.day(date, rules), *(self.column(name) for name in by)]
        labelled = [key.label(label) for key, label in zip(keys, key_names(by), strict=True)]
        row_count = self.sql.func.count().label(ROWS)
        sums = [
            part.label(name)
            for plane in planes
            for name, part in self._parts(plane, centres).items()
        ]
        return self.sql.select(*labelled, row_count, *sums).where(*where).group_by(*keys)

    def values_query(
        self, date: str, by: Sequence[str], column: str, rules: DateRules, where: Sequence[Any]
    ) -> Any:
        """Return the query that gives each value of a column per day and group, and how often."""
        value = self._number(self.column(column))
        keys = [self.day(date, rules), *(self.column(name) for name in by), value]
        names = [*key_names(by), "eptaro_value"]
        labelled = [key.label(label) for key, label in zip(keys, names, strict=True)]
        filled = value.is_not(None)
        count = self.sql.func.count().label(ROWS)
        return self.sql.select(*labelled, count).where(filled, *where).group_by(*keys)

    def where(self, date: str, scope: Filter) -> list[Any]:
        """Return the conditions of a span of days and of wanted group values."""
        conditions, span = [], scope.window
        if span is not None:
            column, sql = self.column(date), self.sql
            if not isinstance(column.type, sql.Date | sql.DateTime):
                raise QuestionError(
                    f"{self.name}: {date!r} holds no dates but {column.type}, so the database "
                    f"cannot narrow it to {span}; ask the verbs with only= instead"
                )
            if isinstance(column.type, sql.DateTime):
                day = self.day(date, DateRules())
                first, last = span.first, span.last
                if self._lite:
                    conditions.append(day.between(str(first), str(last)))
                else:
                    conditions.append(day.between(first, last))
            else:
                conditions.append(column.between(span.first, span.last))
        for name, value in scope.wanted.items():
            many = list(value) if isinstance(value, list | tuple | set) else [value]
            column, filled = self.column(name), [value for value in many if value is not None]
            blank = [column.is_(None)] if len(filled) < len(many) else []
            conditions.append(self.sql.or_(column.in_(filled), *blank) if filled else blank[0])
        return conditions

    def _parts(self, plane: Plane, centres: Mapping[str, int]) -> dict[str, Any]:
        """Return the named sums that a plane comes from."""
        func, column = self.sql.func, self.column(plane.column)
        value = self._value(plane.column)
        name = f"{plane.what}:{plane.column}"
        match plane.what:
            case "filled":
                return {name: func.count(self._number(column))}
            case "sum" if self._counts_in_64_bits(plane.column):
                return {
                    f"{name}:high": func.sum(value.op(">>")(32)),
                    f"{name}:low": func.sum(value.op("&")(_HALF)),
                }
            case "sum":
                return {name: func.sum(value)}
            case "min" | "max":
                least_or_most = func.min if plane.what == "min" else func.max
                return {name: least_or_most(self._in_order(value))}
            case "square":
                return self._square_parts(name, plane.column, centres)
            case _:
                raise MeasureError(f"{plane.what}({plane.column}) is not summed by a database")

    def _square_parts(self, name: str, of: str, centres: Mapping[str, int]) -> dict[str, Any]:
        """Return the named sums that squares of a column come from."""
        sql, func, column, value = self.sql, self.sql.func, self.column(of), self._value(of)
        if self._is_float(column) and of not in self.scales:
            distance = value - centres.get(of, 0)
            return {name: func.sum(distance * distance)}
        if self.engine.dialect.name == "sqlite":  # 64 bits: values are cut in three
            mask = (1 << LIMB) - 1
            limbs = [
                value.op(">>")(2 * LIMB),
                value.op(">>")(LIMB).op("&")(mask),
                value.op("&")(mask),
            ]
            pairs = [(0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2)]
            return {f"{name}:{i}{j}": func.sum(limbs[i] * limbs[j]) for i, j in pairs}
        exact = sql.cast(value, sql.Numeric)
        return {name: func.sum(exact * exact)}

    def _value(self, name: str) -> Any:
        """Return a column's value as it is summed: whole units where it is a declared decimal."""
        sql, column = self.sql, self.column(name)
        if name in self.scales:
            plain = sql.type_coerce(column, sql.Float)
            return sql.cast(sql.func.round(plain * 10 ** self.scales[name]), sql.Integer)
        return self._number(column)

    def _number(self, column: Any) -> Any:
        """Return a column whose NaN, where a database has it, is a blank."""
        if self.engine.dialect.name == "postgresql":
            return without_nan(self.sql, column)
        return column

    def _in_order(self, value: Any) -> Any:
        """Return a value as it is put in order: texts letter by letter, of time stamps the day."""
        if isinstance(value.type, self.sql.String):
            binary = "BINARY" if self.engine.dialect.name == "sqlite" else "C"
            return self.sql.collate(value, binary)
        if isinstance(value.type, self.sql.DateTime):
            if self.engine.dialect.name != "sqlite":
                return self.sql.cast(value, self.sql.Date)
            return self.sql.type_coerce(stored_day(self.sql, value), self.sql.Date)
        return value

    def is_text_or_date(self, name: str) -> bool:
        """Return whether a column holds texts or dates."""
        sql = self.sql
        return isinstance(self.column(name).type, sql.String | sql.Date | sql.DateTime)

    def _is_float(self, column: Any) -> bool:
        return isinstance(column.type, self.sql.Float)

    def _counts_in_64_bits(self, name: str) -> bool:
        """Return whether the database would refuse a sum that passes 64 bits on its way."""
        whole = name in self.scales or isinstance(self.column(name).type, self.sql.Integer)
        return whole and self.engine.dialect.name == "sqlite"

    def is_float(self, name: str) -> bool:
        """Return whether a column holds floats."""
        return self._is_float(self.column(name)) and name not in self.scales

    def shown(self, query: Any) -> str:
        """Return a query as the database is asked it, its values written out where they can be."""
        try:
            text = query.compile(self.engine, compile_kwargs={"literal_binds": True})
        except (NotImplementedError, self.sql.exc.CompileError):
            text = query.compile(self.engine)
        return str(text)


def key_names(by: Sequence[str]) -> list[str]:
    """Return what the grouped columns are called in a result."""
    return [DAY, *(f"eptaro_group_{place}" for place in range(len(by)))]
