"""The kinds of values: what functions take and give, and what an expression is."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable, Mapping, Sequence
from enum import Enum
from typing import NamedTuple

from eptaro.core.calendars.days import ordinal
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
    unknown_column,
)
from eptaro.errors import EptaroError

FIRST_YEAR = 100  # of `date(y, m, d)`: 25 may be one of several


class ValueKind(Enum):
    """What a value is; a column without any value is blank, and goes with every other."""

    NUMBER = "a number"
    TEXT = "text"
    DATE = "a date"
    FLAG = "a condition"
    BLANK = "blank"


class Function(NamedTuple):
    """What a function takes and gives.

    `takes` lists the kinds of its values, None where they are alike; values after the last are of
    its kind, up to `most`. `gives` is None where it gives what it takes.
    """

    takes: tuple[ValueKind | tuple[ValueKind, ...] | None, ...]
    gives: ValueKind | None
    least: int
    most: int
    shown: str


_MANY = 100
_N, _T, _D, _F = ValueKind.NUMBER, ValueKind.TEXT, ValueKind.DATE, ValueKind.FLAG
FUNCTIONS: dict[str, Function] = {
    "abs": Function((_N,), _N, 1, 1, "abs(x)"),
    "round": Function((_N, _N), _N, 1, 2, "round(x) or round(x, 2)"),
    "floor": Function((_N,), _N, 1, 1, "floor(x)"),
    "ceil": Function((_N,), _N, 1, 1, "ceil(x)"),
    "least": Function((None,), None, 2, _MANY, "least(a, b)"),
    "greatest": Function((None,), None, 2, _MANY, "greatest(a, b)"),
    "lower": Function((_T,), _T, 1, 1, "lower(text)"),
    "upper": Function((_T,), _T, 1, 1, "upper(text)"),
    "trim": Function((_T,), _T, 1, 1, "trim(text)"),
    "length": Function((_T,), _N, 1, 1, "length(text)"),
    "contains": Function((_T, _T), _F, 2, 2, "contains(text, 'part')"),
    "starts": Function((_T, _T), _F, 2, 2, "starts(text, 'part')"),
    "ends": Function((_T, _T), _F, 2, 2, "ends(text, 'part')"),
    "coalesce": Function((None,), None, 2, _MANY, "coalesce(a, b)"),
    "if": Function((_F, None), None, 2, 3, "if(condition, a, b)"),
    "date": Function((_N, (_N, _T), _N), _D, 3, 3, "date(year, month, day)"),
    "week": Function((_N, _N), _D, 2, 2, "week(year, number)"),
    "shift": Function((_D, _N), _D, 2, 2, "shift(date, days)"),
    "days": Function((_D, _D), _N, 2, 2, "days(later, earlier)"),
    "year": Function((_D,), _N, 1, 1, "year(date)"),
    "month": Function((_D,), _N, 1, 1, "month(date)"),
    "day": Function((_D,), _N, 1, 1, "day(date)"),
    "weekday": Function((_D,), _T, 1, 1, "weekday(date)"),
    "hour": Function((_D,), _N, 1, 1, "hour(time)"),
    "band": Function((_N, _N), _T, 2, _MANY, "band(x, 0, 50, 100)"),
}


_LITERAL_FROM = {  # functions whose values from that place on are written out, not calculated
    "round": 1,
    "contains": 1,
    "starts": 1,
    "ends": 1,
    "band": 1,
}


def kind_of(node: Node, kinds: Mapping[str, ValueKind], text: str) -> ValueKind:
    """Return what an expression is, of columns of known kinds.

    Raises `ExpressionError` for an unknown column and for values that do not go together.
    """
    match node:
        case Number():
            return ValueKind.NUMBER
        case Text():
            return ValueKind.TEXT
        case Name(name):
            if name not in kinds:
                raise error_at(text, node.at, unknown_column(name, kinds))
            return kinds[name]
        case Negate(value):
            _expect(value, (ValueKind.NUMBER,), kinds, text, "its sign cannot be turned")
            return ValueKind.NUMBER
        case BinaryOp(how, left, right):
            for side in (left, right):
                allowed = (ValueKind.NUMBER, ValueKind.FLAG)
                _expect(side, allowed, kinds, text, f"{how!r} works on numbers")
            return ValueKind.NUMBER
        case Comparison(_, left, right):
            check_alike([left, right], kinds, text, node.at)
            return ValueKind.FLAG
        case In(value, choices):
            for choice in choices:
                check_alike([value, choice], kinds, text, choice.at)
            return ValueKind.FLAG
        case BoolOp(how, left, right):
            for side in (left, right):
                _expect(side, (ValueKind.FLAG,), kinds, text, f"{how!r} joins conditions")
            return ValueKind.FLAG
        case Not(value):
            _expect(value, (ValueKind.FLAG,), kinds, text, "'not' turns a condition round")
            return ValueKind.FLAG
        case IsBlank(value):
            kind_of(value, kinds, text)
            return ValueKind.FLAG
        case Where(value, condition):
            _expect(condition, (ValueKind.FLAG,), kinds, text, "a condition follows 'where'")
            return ValueKind.FLAG if value is None else kind_of(value, kinds, text)
        case Call():
            return _kind_of_call(node, kinds, text)
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")


_BARE_DATE = re.compile(r"(?<!')\b\d{4}-\d\d?-\d\d?\b")


def check_alike(
    nodes: Sequence[Node], kinds: Mapping[str, ValueKind], text: str, at: int
) -> ValueKind:
    """Return the kind that all of some values are of; texts beside dates are dates.

    Raises `ExpressionError` where they are of several.
    """
    kinds_met = {kind_of(node, kinds, text) for node in nodes} - {ValueKind.BLANK}
    if kinds_met == {ValueKind.DATE, ValueKind.TEXT}:
        for node in nodes:
            if kind_of(node, kinds, text) is ValueKind.TEXT:
                ordinal_of_text(node, text)
        return ValueKind.DATE
    if len(kinds_met) > 1:
        one, two = sorted(kind.value for kind in kinds_met)[:2]
        if kinds_met == {ValueKind.NUMBER, ValueKind.TEXT}:
            raise error_at(text, at, "text and a number do not go together; quote both or neither")
        bare = _BARE_DATE.search(text) if ValueKind.DATE in kinds_met else None
        cure = f"; put dates in quotes: '{bare[0]}'" if bare else ""
        raise error_at(text, at, f"{one} and {two} do not go together{cure}")
    return next(iter(kinds_met), ValueKind.BLANK)


def ordinal_of_text(node: Node, text: str) -> int:
    """Return the day ordinal of a date that is written as a text."""
    if not isinstance(node, Text):
        raise error_at(text, node.at, "text beside a date; a date is written as '2025-08-20'")
    try:
        return ordinal(node.value)
    except EptaroError:
        message = f"{node.value!r} is not a date; write it as '2025-08-20'"
        raise error_at(text, node.at, message) from None


def _kind_of_call(node: Call, kinds: Mapping[str, ValueKind], text: str) -> ValueKind:
    function = FUNCTIONS[node.function]
    literal = _LITERAL_FROM.get(node.function, len(node.given))
    for place, value in enumerate(node.given):
        kinds_taken = function.takes[min(place, len(function.takes) - 1)]
        if place >= literal and not isinstance(value, Number | Text):
            message = f"here {node.function} takes a value that is written out: {function.shown}"
            raise error_at(text, value.at, message)
        if kinds_taken is not None:
            kind_here = kind_of(value, kinds, text)
            several = kinds_taken if isinstance(kinds_taken, tuple) else (kinds_taken,)
            if kind_here not in (*several, ValueKind.BLANK):
                words = " or ".join(kind.value for kind in several)
                message = f"{node.function} takes {words} here, and this is {kind_here.value}"
                raise error_at(text, value.at, message)
    if function.gives is not None:
        return function.gives
    return check_alike(node.given[node.function == "if" :], kinds, text, node.at)


def _expect(
    node: Node,
    kinds_accepted: tuple[ValueKind, ...],
    kinds: Mapping[str, ValueKind],
    text: str,
    why: str,
) -> None:
    kind = kind_of(node, kinds, text)
    if kind not in (*kinds_accepted, ValueKind.BLANK):
        hint = ""
        if kind is ValueKind.TEXT and isinstance(node, Name):
            hint = f"; column {node.name!r} holds text"
        elif kind is ValueKind.DATE and ValueKind.NUMBER in kinds_accepted:
            hint = "; a date moves by days with shift(date, days)"
        raise error_at(text, node.at, f"this is {kind.value}, and {why}{hint}")


class Use(NamedTuple):
    """How an expression uses a column: the `kind` that it takes it for, None where that is open.

    A use that is not `sure` is beside a text that is written out, which a `dated` one is beside as
    a date. `ordered` uses ask which of two is less, `blank` ones only whether there is a value,
    `picked` ones for a value as it is.
    """

    name: str
    kind: ValueKind | None
    sure: bool = True
    ordered: bool = False
    blank: bool = False
    picked: bool = False
    dated: bool = False


def column_uses(node: Node, wanted: ValueKind | None = None) -> list[Use]:
    """Return how an expression uses its columns; `wanted` is what it is to be itself.

    >>> from eptaro.core.expressions.parser import parse
    >>> found = column_uses(parse("delay > 15 and carrier = 'UA'"))
    >>> [(use.name, use.kind and use.kind.name) for use in found]
    [('delay', 'NUMBER'), ('carrier', 'TEXT')]
    """
    uses_met: list[Use] = []
    _uses(node, Use("", wanted), uses_met)
    return uses_met


def _uses(node: Node, use: Use, uses: list[Use]) -> None:
    match node:
        case Name(name):
            uses.append(use._replace(name=name))
        case Number() | Text():
            pass
        case Negate() | BinaryOp():
            for part in node.parts:
                _uses(part, Use("", ValueKind.NUMBER), uses)
        case Comparison() | In():
            kind = next((k for part in node.parts if (k := sure_kind(part)) is not None), None)
            beside_text = kind is None and any(isinstance(part, Text) for part in node.parts)
            ordered = isinstance(node, Comparison) and node.how not in ("=", "!=")
            own = Use("", ValueKind.TEXT if beside_text else kind, not beside_text, ordered)
            own = own._replace(dated=beside_text and are_days(node.parts))
            for part in node.parts:
                _uses(part, own, uses)
        case BoolOp() | Not():
            for part in node.parts:
                _uses(part, Use("", ValueKind.FLAG), uses)
        case IsBlank(value):
            _uses(value, Use("", None, blank=True), uses)
        case Where(value, condition):
            _uses(condition, Use("", ValueKind.FLAG), uses)
            if value is not None:
                _uses(value, use, uses)
        case Call(function, given):
            takes = FUNCTIONS[function].takes
            kind = sure_kind(node)
            open_still = use.kind is None or not (use.sure or kind is None)
            alike = use._replace(kind=kind, sure=True) if open_still else use
            if alike.kind is None and any(isinstance(part, Text) for part in given):
                alike = Use("", ValueKind.TEXT, sure=False)
            for place, part in enumerate(given):
                kinds_taken = takes[min(place, len(takes) - 1)]
                # Where numbers go and texts too, texts are read unless another use says number.
                several = isinstance(kinds_taken, tuple)
                own = Use(
                    "",
                    ValueKind.TEXT if isinstance(kinds_taken, tuple) else kinds_taken,
                    sure=not several,
                )
                _uses(part, alike if kinds_taken is None else own, uses)
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")


def are_days(nodes: Iterable[Node]) -> bool:
    """Return whether all texts that are written out, of which there are some, are days.

    >>> from eptaro.core.expressions.parser import parse
    >>> [are_days(parse(f"paid > {text}").parts) for text in ("'2025-08-20'", "'2025-08'", "due")]
    [True, False, False]
    """
    texts = [node.value for node in nodes if isinstance(node, Text)]
    return bool(texts) and all(map(_is_day, texts))


def _is_day(text: str) -> bool:
    try:
        return len(text) == len("2025-08-20") and bool(dt.date.fromisoformat(text))
    except ValueError:
        return False


def sure_kind(node: Node) -> ValueKind | None:
    """Return what a part surely is, whatever its columns are; None where that is open."""
    match node:
        case Number() | Negate() | BinaryOp():
            return ValueKind.NUMBER
        case Call(function, given):
            gives = FUNCTIONS[function].gives
            if gives is not None:
                return gives
            parts = given[1:] if function == "if" else given
            return next((k for part in parts if (k := sure_kind(part)) is not None), None)
        case Name() | Text() | Where():
            return None
        case Comparison() | In() | BoolOp() | Not() | IsBlank():
            return ValueKind.FLAG
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")
