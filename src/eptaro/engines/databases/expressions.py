"""Expressions as SQL: the columns that are calculated, and the condition on rows.

What a database would calculate in another way than Eptaro does is refused by name.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from eptaro.core.expressions.formula import Formula, Formulas
from eptaro.core.expressions.kinds import Kind, check_alike, day_of, kind_of
from eptaro.core.expressions.tree import (
    BinaryOp,
    BoolOp,
    Call,
    Comparison,
    In,
    IsBlank,
    Name,
    Negate,
    Node,
    Not,
    Number,
    Text,
    Where,
    error_at,
)
from eptaro.core.expressions.values import number_of
from eptaro.engines.databases.functions import call_sql
from eptaro.engines.databases.sqlexpr import SqlExpr, kept_day, without_nan

_COMPARED = {"=": "=", "!=": "<>", "<": "<", "<=": "<=", ">": ">", ">=": ">="}


class Translator:
    """Translates the expressions of one table; `scales` holds the decimals that SQLite keeps as
    floats.
    """

    def __init__(
        self, sql: Any, dialect: str, rows: Any, scales: Mapping[str, int], date: str
    ) -> None:
        self.sql, self.rows, self._scales, self._date = sql, rows, scales, date
        self.lite = dialect == "sqlite"
        self.kinds = {column.name: self._kind(column) for column in rows.columns}
        self.text = ""

    def subquery(self, formulas: Formulas) -> tuple[Any, dict[str, int]]:
        """Return the rows that meet the condition, with the columns that are calculated, and the
        decimals of all that are kept as floats.
        """
        scales, made = dict(self._scales), []
        for name, formula in formulas.columns.items():
            part = self._checked(formula)
            value = part.sql
            if part.scale:
                value = self.floated(part)
                scales[name] = part.scale
            made.append(value.label(name))
        query = self.sql.select(*self.rows.columns, *made)
        if formulas.where is not None:
            query = query.where(self._checked(formulas.where).sql)
        return query.subquery("eptaro_rows_worked_out"), scales

    def _checked(self, formula: Formula) -> SqlExpr:
        self.text = formula.text
        kind = kind_of(formula.node, self.kinds, formula.text)
        accepted = {formula.wanted, Kind.BLANK}
        accepted |= {Kind.FLAG} if formula.wanted is Kind.NUMBER else set()
        if formula.wanted is not None and kind not in accepted:
            said = f"this is {kind.value}, and {formula.wanted.value} is needed"
            raise error_at(formula.text, formula.node.at, said)
        if formula.wanted is Kind.NUMBER:
            return self._fitting(self.number(formula.node))
        if kind is Kind.DATE:
            return SqlExpr(self.sql.type_coerce(self.day(formula.node), self.sql.Date))
        found = self.made(formula.node)
        if kind is Kind.FLAG and formula.wanted is None:
            return SqlExpr(self.sql.type_coerce(found.sql, self.sql.Boolean))
        if kind is Kind.TEXT:
            return SqlExpr(self.sql.type_coerce(found.sql, self.sql.String))
        return found

    def _fitting(self, part: SqlExpr) -> SqlExpr:
        """Return a number, in the place of which SQLite raises an overflow where it would go on
        with a float.
        """
        sql = self.sql
        if not self.lite or part.scale is None:
            return part
        beyond = sql.func.typeof(part.sql) == "real"
        if part.scale:  # the units come back as a float
            beyond = sql.func.abs(part.sql) >= 1 << 53
        overflow = sql.func.abs(sql.literal_column("-9223372036854775808"))
        return SqlExpr(sql.case((beyond, overflow), else_=part.sql), part.scale)

    def _kind(self, column: Any) -> Kind:
        sql = self.sql
        if isinstance(column.type, sql.Boolean):
            return Kind.FLAG
        if isinstance(column.type, sql.Numeric | sql.Float | sql.Integer):
            return Kind.NUMBER
        if isinstance(column.type, sql.Date | sql.DateTime):
            return Kind.DATE
        return Kind.TEXT

    def refused(self, node: Node, what: str) -> Exception:
        """Return the error for what a database may calculate in another way than Eptaro."""
        said = f"databases differ in how they calculate {what}; fold the rows"
        return error_at(self.text, node.at, f"{said} with Daybook.read, or put it into the query")

    def made(self, node: Node) -> SqlExpr:
        """Return a part of an expression as SQL."""
        sql = self.sql
        match node:
            case Number(value):
                found = number_of(value)
                units = int(found.data[0])
                return (
                    SqlExpr(sql.literal(units), found.scale)
                    if self.lite
                    else SqlExpr(sql.literal(value if found.scale else units), 0)
                )
            case Text(value):
                return SqlExpr(sql.literal(value))
            case Name(name):
                if name == self._date and self.kinds[name] is not Kind.DATE:
                    raise self.refused(node, "dates that are kept as text or numbers")
                return self._column(name)
            case Negate(value):
                part = self.number(value)
                return SqlExpr(-part.sql, part.scale)
            case BinaryOp(how, left, right):
                return self._reckoned(node, how, self.number(left), self.number(right))
            case Comparison(how, left, right):
                return SqlExpr(self._compared(how, left, right))
            case In(value, choices):
                return SqlExpr(sql.or_(*(self._compared("=", value, choice) for choice in choices)))
            case BoolOp(how, left, right):
                join = sql.and_ if how == "and" else sql.or_
                return SqlExpr(join(self.made(left).sql, self.made(right).sql))
            case Not(value):
                return SqlExpr(sql.not_(self.made(value).sql))
            case IsBlank(value):
                return SqlExpr(self._grouped(value).is_(None))
            case Where(value, condition):
                part = SqlExpr(sql.literal(1), 0) if value is None else self.made(value)
                return SqlExpr(sql.case((self.made(condition).sql, part.sql)), part.scale)
            case Call():
                return call_sql(self, node)
            case _:
                raise self.refused(node, "this")

    def _grouped(self, node: Node) -> Any:
        """Return a part of an expression as an operand; one that is true or not in brackets, which
        would not bind as it does here otherwise.
        """
        found = self.made(node).sql
        if kind_of(node, self.kinds, self.text) is Kind.FLAG and not isinstance(node, Name):
            return self.sql.sql.elements.Grouping(found)
        return found

    def _column(self, name: str) -> SqlExpr:
        sql, column = self.sql, self.rows.columns[name]
        if name in self._scales:
            scale = self._scales[name]
            plain = sql.type_coerce(column, sql.Float)
            return SqlExpr(sql.cast(sql.func.round(plain * 10**scale), sql.Integer), scale)
        if isinstance(column.type, sql.Float):
            return SqlExpr(column if self.lite else without_nan(sql, column))
        if isinstance(column.type, sql.Numeric) and not self.lite:
            column = without_nan(sql, column)
        return SqlExpr(column, 0 if isinstance(column.type, sql.Numeric | sql.Integer) else None)

    def number(self, node: Node) -> SqlExpr:
        """Return a number; what is true counts as 1."""
        sql, part = self.sql, self.made(node)
        if kind_of(node, self.kinds, self.text) is Kind.FLAG and not isinstance(node, Where):
            held = self._grouped(node)
            counted = sql.case((held, 1), (sql.not_(held), 0))
            return SqlExpr(counted, 0)
        return part

    def floated(self, part: SqlExpr) -> Any:
        """Return a number as a float."""
        sql = self.sql
        if part.scale is None:
            return part.sql
        value = sql.cast(part.sql, sql.Double if not self.lite else sql.Float)
        return value / 10.0**part.scale if part.scale else value

    def alike(self, one: SqlExpr, two: SqlExpr) -> tuple[Any, Any, int | None]:
        """Return two numbers in the same units, or as floats."""
        if one.scale is None or two.scale is None:
            return self.floated(one), self.floated(two), None
        scale = max(one.scale, two.scale)
        first, second = (
            part.sql if part.scale == scale else part.sql * 10 ** (scale - (part.scale or 0))
            for part in (one, two)
        )
        return first, second, scale

    def _reckoned(self, node: Node, how: str, one: SqlExpr, two: SqlExpr) -> SqlExpr:
        sql = self.sql
        if not self.lite:  # 32 bits would not hold the product of two
            one, two = (
                part if part.scale is None else SqlExpr(sql.cast(part.sql, sql.Numeric), part.scale)
                for part in (one, two)
            )
        if how == "/":
            return SqlExpr(self.floated(one) / sql.func.nullif(self.floated(two), 0.0))
        if how == "*" and one.scale is not None and two.scale is not None:
            return SqlExpr(one.sql * two.sql, one.scale + two.scale)
        first, second, scale = self.alike(one, two)
        match how:
            case "+":
                return SqlExpr(first + second, scale)
            case "-":
                return SqlExpr(first - second, scale)
            case "*":
                return SqlExpr(first * second)
            case _ if scale is None:
                raise self.refused(node, "remainders of floats")
            case _:
                return SqlExpr(first % sql.func.nullif(second, 0), scale)

    def _compared(self, how: str, left: Node, right: Node) -> Any:
        kind = check_alike([left, right], self.kinds, self.text, left.at)
        if kind in (Kind.NUMBER, Kind.BLANK):
            one, two, _ = self.alike(self.number(left), self.number(right))
            return one.op(_COMPARED[how], is_comparison=True)(two)
        if kind is Kind.DATE:
            one, two = (self.day(node) for node in (left, right))
        else:
            one, two = (self._grouped(node) for node in (left, right))
            if kind is Kind.TEXT:
                one = self.in_order(one)
        return one.op(_COMPARED[how], is_comparison=True)(two)

    def day(self, node: Node) -> Any:
        """Return a date, which SQLite keeps as text."""
        sql = self.sql
        if isinstance(node, Text):
            day_of(node, self.text)
            day = dt.date.fromisoformat(node.value)
            return sql.literal(str(day)) if self.lite else sql.literal(day)
        if not isinstance(node, Name):
            return self.made(node).sql
        column = self.rows.columns[node.name]
        if getattr(column.type, "timezone", False):
            raise self.refused(node, "the days of times with a zone")
        if self.lite:
            return kept_day(sql, column)
        return sql.cast(column, sql.Date)

    def in_order(self, text: Any) -> Any:
        """Return a text that is compared letter by letter."""
        return self.sql.collate(text, "BINARY" if self.lite else "C")

    def all_alike(self, parts: list[SqlExpr]) -> tuple[list[Any], int | None]:
        """Return several numbers in the same units, or as floats."""
        scales = [part.scale for part in parts if part.scale is not None]
        if len(scales) < len(parts):
            return [self.floated(part) for part in parts], None
        scale = max(scales)
        return [part.sql * 10 ** (scale - (part.scale or 0)) for part in parts], scale
