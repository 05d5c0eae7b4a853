"""Expressions as SQL: the columns that are calculated, and the condition on rows.

What a database would calculate in another way than Eptaro does is refused by name.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Container, Mapping
from itertools import pairwise
from typing import Any

from eptaro.core.calendars.levels import Names
from eptaro.core.expressions.kinds import (
    FIRST_YEAR,
    ValueKind,
    are_days,
    check_alike,
    kind_of,
    ordinal_of_text,
)
from eptaro.core.expressions.parser import Formula, Formulas
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
from eptaro.engines.databases.sqlexpr import SqlExpr, stored_day, without_nan

_WHOLE = 2.0**53  # floats from there on are whole
_MOST_PLACES = 18
_ENDS = ("0001-01-01", "9999-12-31")  # of the calendar
_CALENDAR = 3_652_059  # days


def call_sql(to: Translator, node: Call) -> SqlExpr:
    """Return a call as SQL."""
    match node.function:
        case "if" | "coalesce" | "least" | "greatest":
            return _choose_value(to, node)
        case "abs":
            part = to.number(node.given[0])
            return SqlExpr(to.sql.func.abs(part.sql), part.scale)
        case "round":
            return _round_half_away(to, node)
        case "floor" | "ceil":
            return _floor_or_ceiling(to, to.number(node.given[0]), up=node.function == "ceil")
        case "year" | "month" | "day":
            return SqlExpr(_part_of_date(to, node.function, to.day(node.given[0])), 0)
        case "weekday":
            return SqlExpr(_weekday(to, to.day(node.given[0])))
        case "hour":
            return SqlExpr(_hour(to, node), 0)
        case "days":
            return SqlExpr(_days(to, *(to.day(part) for part in node.given)), 0)
        case "date":
            return SqlExpr(_date(to, node))
        case "week":
            raise to.refusal(node, "the first day of a week")
        case "shift":
            return SqlExpr(_shift(to, node))
        case "band":
            return _band(to, node)
        case _:
            return _of_text(to, node)


def _choose_value(to: Translator, node: Call) -> SqlExpr:
    """Return one of several values of one kind."""
    sql, arguments = to.sql, node.given
    values = arguments[1:] if node.function == "if" else arguments
    kind = check_alike(values, to.kinds, to.text, node.at)
    scale: int | None = None
    if kind is ValueKind.NUMBER:
        parts, scale = to.all_alike([to.number(value) for value in values])
    elif kind is ValueKind.DATE:
        parts = [to.day(value) for value in values]
    else:
        parts = [to.translate(value).sql for value in values]
    if node.function == "if":
        otherwise = parts[1] if len(parts) > 1 else None
        return SqlExpr(sql.case((to.translate(arguments[0]).sql, parts[0]), else_=otherwise), scale)
    if node.function == "coalesce":
        return SqlExpr(sql.func.coalesce(*parts), scale)
    if kind is ValueKind.FLAG:
        raise to.refusal(node, f"the {node.function} of conditions")
    if kind is ValueKind.TEXT:
        parts = [to.in_order(part) for part in parts]
    least = node.function == "least"
    if to.lite:  # of several values, one of which is blank, it gives a blank
        return SqlExpr((sql.func.min if least else sql.func.max)(*parts), scale)
    blank = sql.or_(*(part.is_(None) for part in parts))
    best = (sql.func.least if least else sql.func.greatest)(*parts)
    return SqlExpr(sql.case((blank, None), else_=best), scale)


def _round_half_away(to: Translator, node: Call) -> SqlExpr:
    """Return a number with so many decimals, halves away from zero."""
    sql, part = to.sql, to.number(node.given[0])
    places = 0
    if len(node.given) == 2:
        (by,) = node.given[1:]
        assert isinstance(by, Number)
        places = int(by.value)
        if places != by.value or not -_MOST_PLACES <= places <= _MOST_PLACES:
            raise error_at(to.text, by.at, "round takes a whole number from -18 to 18")
    if part.scale is None:
        unit = 10.0**places
        units = sql.func.abs(part.sql) * unit + 0.5
        rounded = _floor_of_floats(to, units) / unit
        return SqlExpr(sql.case((part.sql < 0, -rounded), else_=rounded))
    if not to.lite:
        return SqlExpr(sql.func.round(sql.cast(part.sql, sql.Numeric), places), 0)
    if places >= part.scale:
        return part
    unit = 10 ** (part.scale - places)
    units = _divide_whole(to, sql.func.abs(part.sql) + unit // 2, unit)
    rounded = sql.case((part.sql < 0, -units), else_=units)
    return SqlExpr(rounded, places) if places >= 0 else SqlExpr(rounded * 10**-places, 0)


def _floor_or_ceiling(to: Translator, part: SqlExpr, *, up: bool) -> SqlExpr:
    """Return the whole numbers below or above."""
    sql = to.sql
    sign = -1 if up else 1
    if part.scale is None:
        return SqlExpr(_floor_of_floats(to, part.sql * sign) * float(sign))
    if not to.lite:
        function = sql.func.ceil if up else sql.func.floor
        return SqlExpr(function(sql.cast(part.sql, sql.Numeric)), 0)
    unit, value = 10**part.scale, part.sql * sign
    below = _divide_whole(to, value - (value % unit + unit) % unit, unit)
    return SqlExpr(below * sign, 0)


def _divide_whole(to: Translator, units: Any, unit: int) -> Any:
    """Return how many times a unit goes into whole numbers that are not negative, or that are so
    many of it.
    """
    sql = to.sql
    return sql.cast(sql.cast(units, sql.Integer).op("/")(unit), sql.Integer)


def _floor_of_floats(to: Translator, value: Any) -> Any:
    """Return the whole numbers below floats."""
    sql = to.sql
    if not to.lite:
        return sql.func.floor(value)
    nearer = sql.cast(sql.cast(value, sql.Integer), sql.Float)  # towards zero
    below = nearer - sql.case((nearer > value, 1.0), else_=0.0)
    return sql.case((sql.func.abs(value) >= _WHOLE, value), else_=below)


def _part_of_date(to: Translator, which: str, day: Any) -> Any:
    sql = to.sql
    if to.lite:
        letter = {"year": "%Y", "month": "%m", "day": "%d"}[which]
        return sql.cast(sql.func.strftime(letter, day), sql.Integer)
    return sql.cast(sql.extract(which, day), sql.Integer)


def _weekday(to: Translator, day: Any) -> Any:
    sql = to.sql
    if to.lite:  # from Sunday, 0
        number = (sql.cast(sql.func.strftime("%w", day), sql.Integer) + 6) % 7
    else:
        number = sql.cast(sql.extract("isodow", day), sql.Integer) - 1
    return sql.case(*((number == at, sql.literal(n)) for at, n in enumerate(Names().weekdays)))


def _hour(to: Translator, node: Call) -> Any:
    sql, (value,) = to.sql, node.given
    column = to.rows.columns[value.name] if isinstance(value, Name) else None
    if column is None or not isinstance(column.type, sql.DateTime):
        raise error_at(to.text, value.at, "hour takes a column of times")
    if getattr(column.type, "timezone", False):
        raise to.refusal(value, "the hours of times with a zone")
    if to.lite:
        return sql.cast(sql.func.strftime("%H", sql.type_coerce(column, sql.String)), sql.Integer)
    return sql.cast(sql.extract("hour", column), sql.Integer)


def _days(to: Translator, later: Any, earlier: Any) -> Any:
    sql = to.sql
    if to.lite:
        return sql.cast(sql.func.julianday(later) - sql.func.julianday(earlier), sql.Integer)
    return later - earlier


def _shift(to: Translator, node: Call) -> Any:
    """Return a date moved by a whole number of days, blank where there is no such day."""
    sql, day = to.sql, to.day(node.given[0])
    days = _whole_or_blank(to, to.number(node.given[1]), -_CALENDAR, _CALENDAR)
    if to.lite:
        shifted = sql.func.date(day, sql.func.printf("%+d days", days))
        return sql.case((sql.and_(days.is_not(None), shifted.between(*_ENDS)), shifted))
    first, last = (sql.cast(sql.literal(end), sql.Date) for end in _ENDS)
    good = days.between(first - day, last - day)
    return sql.case((good, sql.cast(day + days, sql.Date)))


def _date(to: Translator, node: Call) -> Any:
    """Return the date of three numbers, blank where there is no such day."""
    sql = to.sql
    if kind_of(node.given[1], to.kinds, to.text) is ValueKind.TEXT:
        raise to.refusal(node.given[1], "the number of a month from its name")
    year, month, day = (_whole_or_blank(to, to.number(part)) for part in node.given)
    if to.lite:
        text = sql.func.printf("%04d-%02d-%02d", year, month, day)
        valid_day = sql.func.date(
            text, "+0 days"
        )  # of the 30th of February it makes a day in March
        return sql.case((sql.and_(year >= FIRST_YEAR, valid_day == text), text))
    leap = sql.and_(year % 4 == 0, sql.or_(year % 100 != 0, year % 400 == 0))
    longest = sql.case(
        (month == 2, sql.case((leap, 29), else_=28)), (month.in_((4, 6, 9, 11)), 30), else_=31
    )
    good = sql.and_(year.between(FIRST_YEAR, 9999), month.between(1, 12), day >= 1, day <= longest)
    return sql.case((good, sql.func.make_date(year, month, day)))


def _whole_or_blank(to: Translator, part: SqlExpr, least: int = 0, most: int = 9999) -> Any:
    """Return a whole number within bounds, or blank."""
    sql = to.sql
    value = to.as_float(part)
    whole = sql.cast(value if to.lite else sql.func.floor(value), sql.Integer)
    return sql.case((value.between(least, most), sql.case((whole == value, whole))))


def _of_text(to: Translator, node: Call) -> SqlExpr:
    sql, text = to.sql, to.translate(node.given[0]).sql
    part = node.given[1].value if len(node.given) > 1 and isinstance(node.given[1], Text) else ""
    match node.function:
        case "length":
            return SqlExpr(sql.func.length(text), 0)
        case "contains":
            place = sql.func.instr(text, part) if to.lite else sql.func.strpos(text, part)
            return SqlExpr(place > 0 if part else text.is_not(None))
        case "starts":
            return SqlExpr(_is_same_text(to, sql.func.substr(text, 1, len(part)), part))
        case "ends" if to.lite:
            own = sql.func.substr(text, -len(part)) if part else sql.func.substr(text, 1, 0)
            return SqlExpr(_is_same_text(to, own, part))
        case "ends":
            return SqlExpr(_is_same_text(to, sql.func.right(text, len(part)), part))
        case _:
            raise to.refusal(node, f"{node.function}()")


def _is_same_text(to: Translator, one: Any, text: str) -> Any:
    return to.in_order(one) == text


def _band(to: Translator, node: Call) -> SqlExpr:
    sql, value = to.sql, to.number(node.given[0])
    edges = [part for part in node.given[1:] if isinstance(part, Number)]
    for one, two in pairwise(edges):
        if two.value <= one.value:
            raise error_at(to.text, two.at, "the edges of bands rise: band(x, 0, 50, 100)")
    edge_texts = [f"{edge.value:f}" for edge in edges]
    below = [f"under {edge_texts[0]}"]
    below += [f"{one} to {two}" for one, two in pairwise(edge_texts)]
    cases = []
    for edge, label in zip(edges, below, strict=True):
        first, second, _ = to.alike(value, to.translate(edge))
        cases.append((first < second, sql.literal(label)))
    filled = value.sql.is_not(None)
    return SqlExpr(sql.case(*cases, (filled, sql.literal(f"{edge_texts[-1]} and over"))))


_DAY = len("2025-08-20")
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
        self._days: dict[str, Any] = {}  # of the dates of SQLite
        self.text = ""

    def subquery(self, formulas: Formulas) -> tuple[Any, dict[str, int]]:
        """Return the rows that meet the condition, with the columns that are calculated, and the
        decimals of all that are kept as floats.
        """
        scales, columns, own = dict(self._scales), [], [column.name for column in self.rows.columns]
        if self.lite:
            self._calculate_days(formulas.names)
        for name, formula in formulas.columns.items():
            part = self._check_formula(formula)
            value = part.sql
            if part.scale:
                value = self.as_float(part)
                scales[name] = part.scale
            columns.append(value.label(name))
        query = self.sql.select(*(self.rows.columns[name] for name in own), *columns)
        if formulas.where is not None:
            query = query.where(self._check_formula(formulas.where).sql)
        if self.lite and columns:
            query = query.limit(-1)  # so that SQLite calculates each column once
        return query.subquery("eptaro_rows_worked_out"), scales

    def _calculate_days(self, names: Container[str]) -> None:
        """Calculate the day of each date once. SQLite writes a query into the one around it, and
        calculates a column wherever it is named, unless the query has a limit.
        """
        sql, dated = self.sql, (self.sql.Date, self.sql.DateTime)
        days = {
            column.name: stored_day(sql, column).label(f"eptaro_day_of_{column.name}")
            for column in self.rows.columns
            if column.name in names and isinstance(column.type, dated)
        }
        if days:
            query = sql.select(*self.rows.columns, *days.values()).limit(-1)
            self.rows = query.subquery("eptaro_rows_and_days")
            self._days = {name: self.rows.columns[day.name] for name, day in days.items()}

    def _check_formula(self, formula: Formula) -> SqlExpr:
        self.text = formula.text
        kind = kind_of(formula.node, self.kinds, formula.text)
        accepted = {formula.wanted, ValueKind.BLANK}
        accepted |= {ValueKind.FLAG} if formula.wanted is ValueKind.NUMBER else set()
        if formula.wanted is not None and kind not in accepted:
            message = f"this is {kind.value}, and {formula.wanted.value} is needed"
            raise error_at(formula.text, formula.node.at, message)
        if formula.wanted is ValueKind.NUMBER:
            return self._fitting(self.number(formula.node))
        if kind is ValueKind.DATE:
            return SqlExpr(self.sql.type_coerce(self.day(formula.node), self.sql.Date))
        translated = self.translate(formula.node)
        if kind is ValueKind.FLAG and formula.wanted is None:
            return SqlExpr(self.sql.type_coerce(translated.sql, self.sql.Boolean))
        if kind is ValueKind.TEXT:
            return SqlExpr(self.sql.type_coerce(translated.sql, self.sql.String))
        return translated

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

    def _kind(self, column: Any) -> ValueKind:
        sql = self.sql
        if isinstance(column.type, sql.Boolean):
            return ValueKind.FLAG
        if isinstance(column.type, sql.Numeric | sql.Float | sql.Integer):
            return ValueKind.NUMBER
        if isinstance(column.type, sql.Date | sql.DateTime):
            return ValueKind.DATE
        return ValueKind.TEXT

    def refusal(self, node: Node, subject: str) -> Exception:
        """Return the error for what a database may calculate in another way than Eptaro."""
        message = f"databases differ in how they calculate {subject}; fold the rows"
        return error_at(
            self.text, node.at, f"{message} with Daybook.read, or put it into the query"
        )

    def translate(self, node: Node) -> SqlExpr:
        """Return a part of an expression as SQL."""
        sql = self.sql
        match node:
            case Number(value):
                number = number_of(value)
                units = int(number.data[0])
                return (
                    SqlExpr(sql.literal(units), number.scale)
                    if self.lite
                    else SqlExpr(sql.literal(value if number.scale else units), 0)
                )
            case Text(value):
                return SqlExpr(sql.literal(value))
            case Name(name):
                if name == self._date and self.kinds[name] is not ValueKind.DATE:
                    raise self.refusal(node, "dates that are kept as text or numbers")
                return self._column(name)
            case Negate(value):
                part = self.number(value)
                return SqlExpr(-part.sql, part.scale)
            case BinaryOp(how, left, right):
                return self._calculate(node, how, self.number(left), self.number(right))
            case Comparison(how, left, right):
                dated = are_days([left, right])
                return SqlExpr(self._compare(how, left, right, dated=dated))
            case In(value, choices):
                dated = are_days(choices)
                compared = (self._compare("=", value, choice, dated=dated) for choice in choices)
                return SqlExpr(sql.or_(*compared))
            case BoolOp(how, left, right):
                join = sql.and_ if how == "and" else sql.or_
                return SqlExpr(join(self.translate(left).sql, self.translate(right).sql))
            case Not(value):
                return SqlExpr(sql.not_(self.translate(value).sql))
            case IsBlank(value):
                return SqlExpr(self._operand(value).is_(None))
            case Where(value, condition):
                part = SqlExpr(sql.literal(1), 0) if value is None else self.translate(value)
                return SqlExpr(sql.case((self.translate(condition).sql, part.sql)), part.scale)
            case Call():
                return call_sql(self, node)
            case _:
                raise self.refusal(node, "this")

    def _operand(self, node: Node) -> Any:
        """Return a part of an expression as an operand; one that is true or not in brackets, which
        would not bind as it does here otherwise.
        """
        operand = self.translate(node).sql
        if kind_of(node, self.kinds, self.text) is ValueKind.FLAG and not isinstance(node, Name):
            return self.sql.sql.elements.Grouping(operand)
        return operand

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
        sql, part = self.sql, self.translate(node)
        if kind_of(node, self.kinds, self.text) is ValueKind.FLAG and not isinstance(node, Where):
            truth = self._operand(node)
            as_number = sql.case((truth, 1), (sql.not_(truth), 0))
            return SqlExpr(as_number, 0)
        return part

    def as_float(self, part: SqlExpr) -> Any:
        """Return a number as a float."""
        sql = self.sql
        if part.scale is None:
            return part.sql
        value = sql.cast(part.sql, sql.Double if not self.lite else sql.Float)
        return value / 10.0**part.scale if part.scale else value

    def alike(self, left: SqlExpr, right: SqlExpr) -> tuple[Any, Any, int | None]:
        """Return two numbers in the same units, or as floats."""
        if left.scale is None or right.scale is None:
            return self.as_float(left), self.as_float(right), None
        scale = max(left.scale, right.scale)
        first, second = (
            part.sql if part.scale == scale else part.sql * 10 ** (scale - (part.scale or 0))
            for part in (left, right)
        )
        return first, second, scale

    def _calculate(self, node: Node, how: str, left: SqlExpr, right: SqlExpr) -> SqlExpr:
        sql = self.sql
        if not self.lite:  # 32 bits would not hold the product of two
            left, right = (
                part if part.scale is None else SqlExpr(sql.cast(part.sql, sql.Numeric), part.scale)
                for part in (left, right)
            )
        if how == "/":
            return SqlExpr(self.as_float(left) / sql.func.nullif(self.as_float(right), 0.0))
        if how == "*" and left.scale is not None and right.scale is not None:
            return SqlExpr(left.sql * right.sql, left.scale + right.scale)
        first, second, scale = self.alike(left, right)
        match how:
            case "+":
                return SqlExpr(first + second, scale)
            case "-":
                return SqlExpr(first - second, scale)
            case "*":
                return SqlExpr(first * second)
            case _ if scale is None:
                raise self.refusal(node, "remainders of floats")
            case _:
                return SqlExpr(first % sql.func.nullif(second, 0), scale)

    def _compare(self, how: str, left: Node, right: Node, *, dated: bool) -> Any:
        kind = check_alike([left, right], self.kinds, self.text, left.at)
        if kind in (ValueKind.NUMBER, ValueKind.BLANK):
            one, two, _ = self.alike(self.number(left), self.number(right))
            return one.op(_COMPARED[how], is_comparison=True)(two)
        if kind is ValueKind.DATE:
            one, two = (self.day(node) for node in (left, right))
        else:
            one, two = (self._operand(node) for node in (left, right))
            if dated and kind is ValueKind.TEXT:  # whose day is what counts of a time
                one, two = (
                    self.sql.func.nullif(self.sql.func.substr(part, 1, _DAY), "")
                    for part in (one, two)
                )
            if kind is ValueKind.TEXT:
                one = self.in_order(one)
        return one.op(_COMPARED[how], is_comparison=True)(two)

    def day(self, node: Node) -> Any:
        """Return a date, which SQLite keeps as text."""
        sql = self.sql
        if isinstance(node, Text):
            ordinal_of_text(node, self.text)
            day = dt.date.fromisoformat(node.value)
            return sql.literal(str(day)) if self.lite else sql.literal(day)
        if not isinstance(node, Name):
            return self.translate(node).sql
        column = self.rows.columns[node.name]
        if getattr(column.type, "timezone", False):
            raise self.refusal(node, "the days of times with a zone")
        if self.lite:
            return self._days[node.name]
        return sql.cast(column, sql.Date)

    def in_order(self, text: Any) -> Any:
        """Return a text that is compared letter by letter."""
        return self.sql.collate(text, "BINARY" if self.lite else "C")

    def all_alike(self, parts: list[SqlExpr]) -> tuple[list[Any], int | None]:
        """Return several numbers in the same units, or as floats."""
        scales = [part.scale for part in parts if part.scale is not None]
        if len(scales) < len(parts):
            return [self.as_float(part) for part in parts], None
        scale = max(scales)
        return [part.sql * 10 ** (scale - (part.scale or 0)) for part in parts], scale
