"""The functions of the language as SQL: each gives the same as over columns."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, Any

from eptaro.core.calendars.levels import Names
from eptaro.core.expressions.kinds import Kind, check_alike
from eptaro.core.expressions.tree import Call, Name, Number, Text, error_at
from eptaro.engines.databases.sqlexpr import SqlExpr

if TYPE_CHECKING:
    from eptaro.engines.databases.expressions import Translator


_WHOLE = 2.0**53  # floats from there on are whole
_MOST_PLACES = 18


def call_sql(to: Translator, node: Call) -> SqlExpr:
    """Return a call as SQL."""
    match node.function:
        case "if" | "coalesce" | "least" | "greatest":
            return _chosen(to, node)
        case "abs":
            part = to.number(node.given[0])
            return SqlExpr(to.sql.func.abs(part.sql), part.scale)
        case "round":
            return _rounded(to, node)
        case "floor" | "ceil":
            return _whole(to, to.number(node.given[0]), up=node.function == "ceil")
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
        case "band":
            return _band(to, node)
        case _:
            return _of_text(to, node)


def _chosen(to: Translator, node: Call) -> SqlExpr:
    """Return one of several values of one kind."""
    sql, given = to.sql, node.given
    values = given[1:] if node.function == "if" else given
    kind = check_alike(values, to.kinds, to.text, node.at)
    scale: int | None = None
    if kind is Kind.NUMBER:
        parts, scale = to.all_alike([to.number(value) for value in values])
    elif kind is Kind.DATE:
        parts = [to.day(value) for value in values]
    else:
        parts = [to.made(value).sql for value in values]
    if node.function == "if":
        otherwise = parts[1] if len(parts) > 1 else None
        return SqlExpr(sql.case((to.made(given[0]).sql, parts[0]), else_=otherwise), scale)
    if node.function == "coalesce":
        return SqlExpr(sql.func.coalesce(*parts), scale)
    if kind is Kind.FLAG:
        raise to.refused(node, f"the {node.function} of conditions")
    if kind is Kind.TEXT:
        parts = [to.in_order(part) for part in parts]
    least = node.function == "least"
    if to.lite:  # of several values, one of which is blank, it gives a blank
        return SqlExpr((sql.func.min if least else sql.func.max)(*parts), scale)
    blank = sql.or_(*(part.is_(None) for part in parts))
    best = (sql.func.least if least else sql.func.greatest)(*parts)
    return SqlExpr(sql.case((blank, None), else_=best), scale)


def _rounded(to: Translator, node: Call) -> SqlExpr:
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
        found = _floored(to, units) / unit
        return SqlExpr(sql.case((part.sql < 0, -found), else_=found))
    if not to.lite:
        return SqlExpr(sql.func.round(sql.cast(part.sql, sql.Numeric), places), 0)
    if places >= part.scale:
        return part
    unit = 10 ** (part.scale - places)
    units = _over(to, sql.func.abs(part.sql) + unit // 2, unit)
    found = sql.case((part.sql < 0, -units), else_=units)
    return SqlExpr(found, places) if places >= 0 else SqlExpr(found * 10**-places, 0)


def _whole(to: Translator, part: SqlExpr, *, up: bool) -> SqlExpr:
    """Return the whole numbers below or above."""
    sql = to.sql
    sign = -1 if up else 1
    if part.scale is None:
        return SqlExpr(_floored(to, part.sql * sign) * float(sign))
    if not to.lite:
        function = sql.func.ceil if up else sql.func.floor
        return SqlExpr(function(sql.cast(part.sql, sql.Numeric)), 0)
    unit, value = 10**part.scale, part.sql * sign
    below = _over(to, value - (value % unit + unit) % unit, unit)
    return SqlExpr(below * sign, 0)


def _over(to: Translator, units: Any, unit: int) -> Any:
    """Return how many times a unit goes into whole numbers that are not negative, or that are so
    many of it.
    """
    sql = to.sql
    return sql.cast(sql.cast(units, sql.Integer).op("/")(unit), sql.Integer)


def _floored(to: Translator, value: Any) -> Any:
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
        raise to.refused(value, "the hours of times with a zone")
    if to.lite:
        return sql.cast(sql.func.strftime("%H", sql.type_coerce(column, sql.String)), sql.Integer)
    return sql.cast(sql.extract("hour", column), sql.Integer)


def _days(to: Translator, later: Any, earlier: Any) -> Any:
    sql = to.sql
    if to.lite:
        return sql.cast(sql.func.julianday(later) - sql.func.julianday(earlier), sql.Integer)
    return later - earlier


def _date(to: Translator, node: Call) -> Any:
    """Return the date of three numbers, blank where there is no such day."""
    sql = to.sql
    year, month, day = (_whole_or_blank(to, to.number(part)) for part in node.given)
    if to.lite:
        text = sql.func.printf("%04d-%02d-%02d", year, month, day)
        known = sql.func.date(text, "+0 days")  # of the 30th of February it makes a day in March
        return sql.case((sql.and_(year >= 1, known == text), text))
    leap = sql.and_(year % 4 == 0, sql.or_(year % 100 != 0, year % 400 == 0))
    longest = sql.case(
        (month == 2, sql.case((leap, 29), else_=28)), (month.in_((4, 6, 9, 11)), 30), else_=31
    )
    good = sql.and_(year.between(1, 9999), month.between(1, 12), day >= 1, day <= longest)
    return sql.case((good, sql.func.make_date(year, month, day)))


def _whole_or_blank(to: Translator, part: SqlExpr) -> Any:
    """Return a whole number of up to four digits, or blank."""
    sql = to.sql
    value = to.floated(part)
    whole = sql.cast(value if to.lite else sql.func.floor(value), sql.Integer)
    return sql.case((value.between(0, 9999), sql.case((whole == value, whole))))


def _of_text(to: Translator, node: Call) -> SqlExpr:
    sql, text = to.sql, to.made(node.given[0]).sql
    part = node.given[1].value if len(node.given) > 1 and isinstance(node.given[1], Text) else ""
    match node.function:
        case "length":
            return SqlExpr(sql.func.length(text), 0)
        case "contains":
            place = sql.func.instr(text, part) if to.lite else sql.func.strpos(text, part)
            return SqlExpr(place > 0 if part else text.is_not(None))
        case "starts":
            return SqlExpr(_same(to, sql.func.substr(text, 1, len(part)), part))
        case "ends" if to.lite:
            own = sql.func.substr(text, -len(part)) if part else sql.func.substr(text, 1, 0)
            return SqlExpr(_same(to, own, part))
        case "ends":
            return SqlExpr(_same(to, sql.func.right(text, len(part)), part))
        case _:
            raise to.refused(node, f"{node.function}()")


def _same(to: Translator, one: Any, text: str) -> Any:
    return to.in_order(one) == text


def _band(to: Translator, node: Call) -> SqlExpr:
    sql, value = to.sql, to.number(node.given[0])
    edges = [part for part in node.given[1:] if isinstance(part, Number)]
    for one, two in pairwise(edges):
        if two.value <= one.value:
            raise error_at(to.text, two.at, "the edges of bands rise: band(x, 0, 50, 100)")
    shown = [f"{edge.value:f}" for edge in edges]
    below = [f"under {shown[0]}"]
    below += [f"{one} to {two}" for one, two in pairwise(shown)]
    cases = []
    for edge, label in zip(edges, below, strict=True):
        first, second, _ = to.alike(value, to.made(edge))
        cases.append((first < second, sql.literal(label)))
    filled = value.sql.is_not(None)
    return SqlExpr(sql.case(*cases, (filled, sql.literal(f"{shown[-1]} and over"))))
