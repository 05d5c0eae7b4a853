"""What kind of value each part of an expression is, and what it makes of its columns.

Every evaluation goes through `kind_of` first, so that all say the same of what cannot be.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from eptaro.core.calendars.days import ordinal
from eptaro.core.expressions.functions import FUNCTIONS, Kind
from eptaro.core.expressions.place import wrong
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
from eptaro.errors import EptaroError, unknown

_LITERAL_FROM = {  # functions whose values from that place on are written out, not worked out
    "round": 1,
    "contains": 1,
    "starts": 1,
    "ends": 1,
    "band": 1,
}


def kind_of(node: Node, kinds: Mapping[str, Kind], text: str) -> Kind:
    """Return what an expression is, of columns of known kinds.

    Raises `ExpressionError` for an unknown column and for values that do not go together.
    """
    match node:
        case Number():
            return Kind.NUMBER
        case Text():
            return Kind.TEXT
        case Name(name):
            if name not in kinds:
                raise wrong(text, node.at, unknown("column", name, kinds))
            return kinds[name]
        case Sign(value):
            _expect(value, (Kind.NUMBER,), kinds, text, "its sign cannot be turned")
            return Kind.NUMBER
        case Reckoning(how, left, right):
            for side in (left, right):
                allowed = (Kind.NUMBER, Kind.FLAG)
                _expect(side, allowed, kinds, text, f"{how!r} works on numbers")
            return Kind.NUMBER
        case Comparison(_, left, right):
            check_alike([left, right], kinds, text, node.at)
            return Kind.FLAG
        case OneOf(value, choices):
            for choice in choices:
                check_alike([value, choice], kinds, text, choice.at)
            return Kind.FLAG
        case Junction(how, left, right):
            for side in (left, right):
                _expect(side, (Kind.FLAG,), kinds, text, f"{how!r} joins conditions")
            return Kind.FLAG
        case Not(value):
            _expect(value, (Kind.FLAG,), kinds, text, "'not' turns a condition round")
            return Kind.FLAG
        case IsBlank(value):
            kind_of(value, kinds, text)
            return Kind.FLAG
        case Where(value, condition):
            _expect(condition, (Kind.FLAG,), kinds, text, "after 'where' stands a condition")
            return Kind.FLAG if value is None else kind_of(value, kinds, text)
        case Call():
            return _call(node, kinds, text)
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")


def check_alike(nodes: Sequence[Node], kinds: Mapping[str, Kind], text: str, at: int) -> Kind:
    """Return the kind that all of some values are of; texts beside dates are dates.

    Raises `ExpressionError` where they are of several.
    """
    found = {kind_of(node, kinds, text) for node in nodes} - {Kind.BLANK}
    if found == {Kind.DATE, Kind.TEXT}:
        for node in nodes:
            if kind_of(node, kinds, text) is Kind.TEXT:
                day_of(node, text)
        return Kind.DATE
    if len(found) > 1:
        one, two = sorted(kind.value for kind in found)[:2]
        if found == {Kind.NUMBER, Kind.TEXT}:
            raise wrong(text, at, "text and a number do not go together; quote both or neither")
        raise wrong(text, at, f"{one} and {two} do not go together")
    return next(iter(found), Kind.BLANK)


def day_of(node: Node, text: str) -> int:
    """Return the day ordinal of a date that is written as a text."""
    if not isinstance(node, Text):
        raise wrong(text, node.at, "text beside a date; a date is written as '2025-08-20'")
    try:
        return ordinal(node.value)
    except EptaroError:
        said = f"{node.value!r} is not a date; write it as '2025-08-20'"
        raise wrong(text, node.at, said) from None


def _call(node: Call, kinds: Mapping[str, Kind], text: str) -> Kind:
    function = FUNCTIONS[node.function]
    literal = _LITERAL_FROM.get(node.function, len(node.given))
    for place, value in enumerate(node.given):
        wanted = function.takes[min(place, len(function.takes) - 1)]
        if place >= literal and not isinstance(value, Number | Text):
            said = f"here {node.function} takes a value that is written out: {function.shown}"
            raise wrong(text, value.at, said)
        if wanted is not None:
            given = kind_of(value, kinds, text)
            if given not in (wanted, Kind.BLANK):
                said = f"{node.function} takes {wanted.value} here, and this is {given.value}"
                raise wrong(text, value.at, said)
    if function.gives is not None:
        return function.gives
    return check_alike(node.given[node.function == "if" :], kinds, text, node.at)


def _expect(
    node: Node, wanted: tuple[Kind, ...], kinds: Mapping[str, Kind], text: str, why: str
) -> None:
    found = kind_of(node, kinds, text)
    if found not in (*wanted, Kind.BLANK):
        hint = ""
        if found is Kind.TEXT and isinstance(node, Name):
            hint = f"; column {node.name!r} holds text"
        raise wrong(text, node.at, f"this is {found.value}, and {why}{hint}")


def meant(node: Node, wanted: Kind | None = None) -> dict[str, Kind]:
    """Return the kinds that an expression takes its columns for, as far as it tells.

    A file of text is read by these. `wanted` is what the expression itself is to be.

    >>> from eptaro.core.expressions.parser import parse
    >>> {name: kind.name for name, kind in meant(parse("delay > 15 and carrier = 'UA'")).items()}
    {'delay': 'NUMBER'}
    """
    found: dict[str, Kind] = {}
    _meant(node, wanted, found)
    return found


def _meant(node: Node, wanted: Kind | None, found: dict[str, Kind]) -> None:
    match node:
        case Name(name):
            if wanted in (Kind.NUMBER, Kind.DATE):
                found.setdefault(name, wanted)
        case Number() | Text():
            pass
        case Sign() | Reckoning():
            for part in node.parts:
                _meant(part, Kind.NUMBER, found)
        case Comparison() | OneOf():
            kind = next((k for part in node.parts if (k := _sure(part)) is not None), None)
            for part in node.parts:
                _meant(part, kind, found)
        case Junction() | Not():
            for part in node.parts:
                _meant(part, Kind.FLAG, found)
        case IsBlank(value):
            _meant(value, None, found)
        case Where(value, condition):
            _meant(condition, Kind.FLAG, found)
            if value is not None:
                _meant(value, wanted, found)
        case Call(function, given):
            takes = FUNCTIONS[function].takes
            alike = wanted if wanted is not None else _sure(node)
            for place, part in enumerate(given):
                kind = takes[min(place, len(takes) - 1)]
                _meant(part, alike if kind is None else kind, found)
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")


def _sure(node: Node) -> Kind | None:
    """Return what a part surely is, whatever its columns are; None where that is open."""
    match node:
        case Number() | Sign() | Reckoning():
            return Kind.NUMBER
        case Call(function, given):
            gives = FUNCTIONS[function].gives
            if gives is not None:
                return gives
            parts = given[1:] if function == "if" else given
            return next((k for part in parts if (k := _sure(part)) is not None), None)
        case Name() | Text() | Where():
            return None
        case Comparison() | OneOf() | Junction() | Not() | IsBlank():
            return Kind.FLAG
        case _:
            raise EptaroError(f"an expression holds {node!r}, of which no kind is known")
