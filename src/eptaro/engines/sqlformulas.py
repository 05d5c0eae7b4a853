"""Expressions as SQL: the columns that are worked out, and the condition on rows.

What a database would work out in another way than Eptaro does is refused by name.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from eptaro.core.expressions.formula import Formula, Formulas
from eptaro.core.expressions.functions import Kind
from eptaro.core.expressions.kinds import check_alike, day_of, kind_of
from eptaro.core.expressions.place import wrong
from eptaro.core.expressions.texts import number_of
from eptaro.core.expressions.tree import (
    Call,
    Comparison,
    IsBlank,
    Junction,
    Name,
    Node,
    Not,
    Number,
    OneOf,
    Reckoning,
    Sign,
    Text,
    Where,
)

_COMPARED = {"=": "=", "!=": "<>", "<": "<", "<=": "<=", ">": ">", ">=": ">="}


@dataclass(frozen=True, eq=False)
class Made:
    """What a part of an expression is in SQL. An exact number is one of units of 10**-scale."""

    sql: Any
    scale: int | None = None  # None: a float, or no number


class Translator:
    """Translates the expressions of one table; `scales` tells the decimals that SQLite keeps as
    floats.
    """

    def __init__(
        self, sql: Any, dialect: str, rows: Any, scales: Mapping[str, int], date: str
    ) -> None:
        self._sql, self._rows, self._scales, self._date = sql, rows, scales, date
        self._lite = dialect == "sqlite"
        self._kinds = {column.name: self._kind(column) for column in rows.columns}
        self._text = ""

    def subquery(self, formulas: Formulas) -> tuple[Any, dict[str, int]]:
        """Return the rows that meet the condition, with the columns that are worked out, and the
        decimals of all that are kept as floats.
        """
        scales, made = dict(self._scales), []
        for name, formula in formulas.columns.items():
            part = self._checked(formula)
            value = part.sql
            if part.scale:
                value = self._floated(part)
                scales[name] = part.scale
            made.append(value.label(name))
        query = self._sql.select(*self._rows.columns, *made)
        if formulas.where is not None:
            query = query.where(self._checked(formulas.where).sql)
        return query.subquery("eptaro_rows_worked_out"), scales

    def _checked(self, formula: Formula) -> Made:
        self._text = formula.text
        kind = kind_of(formula.node, self._kinds, formula.text)
        accepted = {formula.wanted, Kind.BLANK}
        accepted |= {Kind.FLAG} if formula.wanted is Kind.NUMBER else set()
        if formula.wanted is not None and kind not in accepted:
            said = f"this is {kind.value}, and {formula.wanted.value} is needed"
            raise wrong(formula.text, formula.node.at, said)
        if formula.wanted is Kind.NUMBER:
            return self._number(formula.node)
        found = self._made(formula.node)
        if kind is Kind.FLAG and formula.wanted is None:
            return Made(self._sql.type_coerce(found.sql, self._sql.Boolean))
        return found

    def _kind(self, column: Any) -> Kind:
        sql = self._sql
        if isinstance(column.type, sql.Boolean):
            return Kind.FLAG
        if isinstance(column.type, sql.Numeric | sql.Float | sql.Integer):
            return Kind.NUMBER
        if isinstance(column.type, sql.Date | sql.DateTime):
            return Kind.DATE
        return Kind.TEXT

    def _refused(self, node: Node, what: str) -> Exception:
        said = f"a database is not asked for {what}, which it may do in its own way; fold its rows"
        return wrong(self._text, node.at, f"{said} with Daybook.read, or put it into the query")

    def _made(self, node: Node) -> Made:
        sql = self._sql
        match node:
            case Number(value):
                found = number_of(value)
                units = int(found.data[0])
                return (
                    Made(sql.literal(units), found.scale)
                    if self._lite
                    else Made(sql.literal(value if found.scale else units), 0)
                )
            case Text(value):
                return Made(sql.literal(value))
            case Name(name):
                if name == self._date and self._kinds[name] is not Kind.DATE:
                    raise self._refused(node, "dates that are kept as text or numbers")
                return self._column(name)
            case Sign(value):
                part = self._number(value)
                return Made(-part.sql, part.scale)
            case Reckoning(how, left, right):
                return self._reckoned(node, how, self._number(left), self._number(right))
            case Comparison(how, left, right):
                return Made(self._compared(how, left, right))
            case OneOf(value, choices):
                return Made(sql.or_(*(self._compared("=", value, choice) for choice in choices)))
            case Junction(how, left, right):
                join = sql.and_ if how == "and" else sql.or_
                return Made(join(self._made(left).sql, self._made(right).sql))
            case Not(value):
                return Made(sql.not_(self._made(value).sql))
            case IsBlank(value):
                return Made(self._made(value).sql.is_(None))
            case Where(value, condition):
                part = Made(sql.literal(1), 0) if value is None else self._made(value)
                return Made(sql.case((self._made(condition).sql, part.sql)), part.scale)
            case Call():
                return self._called(node)
            case _:
                raise self._refused(node, "this")

    def _column(self, name: str) -> Made:
        sql, column = self._sql, self._rows.columns[name]
        if name in self._scales:
            scale = self._scales[name]
            plain = sql.type_coerce(column, sql.Float)
            return Made(sql.cast(sql.func.round(plain * 10**scale), sql.Integer), scale)
        if isinstance(column.type, sql.Float):
            if self._lite:
                return Made(column)
            return Made(sql.func.nullif(column, sql.cast("NaN", sql.Double)))
        return Made(column, 0 if isinstance(column.type, sql.Numeric | sql.Integer) else None)

    def _number(self, node: Node) -> Made:
        """Return a number; what is true counts as 1."""
        sql, part = self._sql, self._made(node)
        if kind_of(node, self._kinds, self._text) is Kind.FLAG and not isinstance(node, Where):
            counted = sql.case((part.sql, 1), (sql.not_(part.sql), 0))
            return Made(counted, 0)
        return part

    def _floated(self, part: Made) -> Any:
        """Return a number as a float."""
        sql = self._sql
        if part.scale is None:
            return part.sql
        value = sql.cast(part.sql, sql.Double if not self._lite else sql.Float)
        return value / 10.0**part.scale if part.scale else value

    def _alike(self, one: Made, two: Made) -> tuple[Any, Any, int | None]:
        """Return two numbers in the same units, or as floats."""
        if one.scale is None or two.scale is None:
            return self._floated(one), self._floated(two), None
        scale = max(one.scale, two.scale)
        first, second = (
            part.sql if part.scale == scale else part.sql * 10 ** (scale - (part.scale or 0))
            for part in (one, two)
        )
        return first, second, scale

    def _reckoned(self, node: Node, how: str, one: Made, two: Made) -> Made:
        sql = self._sql
        if how == "/":
            return Made(self._floated(one) / sql.func.nullif(self._floated(two), 0.0))
        if how == "*" and one.scale is not None and two.scale is not None:
            return Made(one.sql * two.sql, one.scale + two.scale)
        first, second, scale = self._alike(one, two)
        match how:
            case "+":
                return Made(first + second, scale)
            case "-":
                return Made(first - second, scale)
            case "*":
                return Made(first * second)
            case _ if scale is None:
                raise self._refused(node, "remainders of floats")
            case _:
                return Made(first % sql.func.nullif(second, 0), scale)

    def _compared(self, how: str, left: Node, right: Node) -> Any:
        sql = self._sql
        kind = check_alike([left, right], self._kinds, self._text, left.at)
        if kind in (Kind.NUMBER, Kind.BLANK):
            one, two, _ = self._alike(self._number(left), self._number(right))
            return one.op(_COMPARED[how], is_comparison=True)(two)
        if kind is Kind.DATE:
            one, two = (self._day(node) for node in (left, right))
        else:
            one, two = (self._made(node).sql for node in (left, right))
            if kind is Kind.TEXT and how not in ("=", "!="):
                one = sql.collate(one, "BINARY" if self._lite else "C")
        return one.op(_COMPARED[how], is_comparison=True)(two)

    def _day(self, node: Node) -> Any:
        import datetime as dt

        sql = self._sql
        if isinstance(node, Text):
            day_of(node, self._text)
            day = dt.date.fromisoformat(node.value)
            return sql.literal(str(day)) if self._lite else sql.literal(day)
        if not isinstance(node, Name):
            raise self._refused(node, "dates that are worked out")
        column = self._rows.columns[node.name]
        if getattr(column.type, "timezone", False):
            raise self._refused(node, "the days of times with a zone")
        if self._lite:
            return sql.func.date(sql.type_coerce(column, sql.String))
        return sql.cast(column, sql.Date)

    def _called(self, node: Call) -> Made:
        sql, given = self._sql, node.given
        match node.function:
            case "if" | "coalesce":
                values = [*given[1:]] if node.function == "if" else [*given]
                numeric = check_alike(values, self._kinds, self._text, node.at) is Kind.NUMBER
                parts = [self._number(v) if numeric else self._made(v) for v in values]
                scale: int | None = None
                if numeric and len(parts) > 1:
                    parts, scale = self._all_alike(parts)
                elif numeric:
                    scale = parts[0].scale
                made = [part.sql for part in parts]
                if node.function == "coalesce":
                    return Made(sql.func.coalesce(*made), scale)
                otherwise = made[1] if len(made) > 1 else None
                return Made(sql.case((self._made(given[0]).sql, made[0]), else_=otherwise), scale)
            case "abs":
                part = self._number(given[0])
                return Made(sql.func.abs(part.sql), part.scale)
            case "length":
                return Made(sql.func.length(self._made(given[0]).sql), 0)
            case "year" | "month" | "day":
                return Made(self._part_of_date(node), 0)
            case "band":
                return self._band(node)
            case _:
                raise self._refused(node, node.function)

    def _all_alike(self, parts: list[Made]) -> tuple[list[Made], int | None]:
        widest = parts[0]
        for part in parts[1:]:
            widest = (
                Made(None, self._alike(widest, part)[2])
                if part.scale is not None and (widest.scale is not None)
                else Made(None, None)
            )
        if widest.scale is None:
            return [Made(self._floated(part)) for part in parts], None
        scale = widest.scale
        return [Made(part.sql * 10 ** (scale - (part.scale or 0)), scale) for part in parts], scale

    def _part_of_date(self, node: Call) -> Any:
        sql, day = self._sql, self._day(node.given[0])
        if self._lite:
            letter = {"year": "%Y", "month": "%m", "day": "%d"}[node.function]
            return sql.cast(sql.func.strftime(letter, day), sql.Integer)
        return sql.cast(sql.extract(node.function, day), sql.Integer)

    def _band(self, node: Call) -> Made:
        sql, value = self._sql, self._number(node.given[0])
        edges = [part for part in node.given[1:] if isinstance(part, Number)]
        for one, two in pairwise(edges):
            if two.value <= one.value:
                raise wrong(self._text, two.at, "the edges of bands rise: band(x, 0, 50, 100)")
        shown = [f"{edge.value:f}" for edge in edges]
        below = [f"under {shown[0]}"]
        below += [f"{one} to {two}" for one, two in pairwise(shown)]
        cases = []
        for edge, label in zip(edges, below, strict=True):
            one, two, _ = self._alike(value, self._made(edge))
            cases.append((one < two, sql.literal(label)))
        filled = value.sql.is_not(None)
        return Made(sql.case(*cases, (filled, sql.literal(f"{shown[-1]} and over"))))
