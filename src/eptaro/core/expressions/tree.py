"""The tree of an expression. Each node knows the place in the text that it came from."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import field, fields, replace
from decimal import Decimal
from typing import Any, Literal, TypeAlias

from eptaro.errors import ExpressionError, unknown
from eptaro.record import Record, record

_WIDEST = 100  # letters of an expression that an error shows


def error_at(text: str, at: int, message: str) -> ExpressionError:
    """Return the error for what is wrong at a place of an expression.

    >>> print(error_at("fare > > 5", 7, "a value is missing before '>'"))
    a value is missing before '>'
      fare > > 5
             ^
    """
    start = max(at - _WIDEST // 2, 0)
    line = "".join(letter if letter.isprintable() else " " for letter in text)
    line = line[start : start + _WIDEST]
    return ExpressionError(f"{message}\n  {line}\n  {' ' * (at - start)}^")


def unknown_column(name: str, columns: Iterable[str]) -> str:
    """Return what is wrong with a name in an expression that is no column; it may be a text.

    >>> unknown_column("car", ["shop", "fare"])
    "unknown column 'car'. Accepted: shop, fare; text is written in single quotes: 'car'"
    """
    hint = f"; text is written in single quotes: '{name}'" if name.isalnum() else ""
    return f"{unknown('column', name, columns)}{hint}"


ComparisonOperator: TypeAlias = Literal["=", "!=", "<", "<=", ">", ">="]
ArithmeticOperator: TypeAlias = Literal["+", "-", "*", "/", "%"]
_PLAIN = re.compile(r"[^\W\d]\w*")

_STEP, _CALL = 3, 9  # calls of Python for each part, and for each function
_DEEPEST, _LARGEST = 540, 20_000


@record
class Node(Record):
    """Any part of an expression; `at` is the place of its first letter."""

    at: int = field(compare=False, kw_only=True, default=0)

    @property
    def parts(self) -> tuple[Node, ...]:
        """The nodes directly below."""
        return ()

    def all(self) -> Iterator[Node]:
        """Yield the node and all below it."""
        waiting: list[Node] = [self]
        while waiting:
            node = waiting.pop()
            yield node
            waiting += reversed(node.parts)


def check_size(node: Node, text: str) -> None:
    """Raise `ExpressionError` for an expression that is too deep or too large to be evaluated.

    Parts that measures share count each time that they are used.
    """
    sizes: dict[int, tuple[int, int]] = {}  # by node: how deep it is, and how many parts it has
    waiting = [node]
    while waiting:
        one = waiting[-1]
        rest = [part for part in one.parts if id(part) not in sizes]
        if rest:
            waiting += rest
            continue
        waiting.pop()
        below = [sizes[id(part)] for part in one.parts]
        own = _CALL if isinstance(one, Call) else _STEP
        deep = own + max((depth for depth, _ in below), default=0)
        size = 1 + sum(count for _, count in below)
        if deep > _DEEPEST or size > _LARGEST:
            message = "goes too deep" if deep > _DEEPEST else "has too many parts"
            raise error_at(
                text, 0, f"this {message}: write it in pieces, or many values as x in (1, 2)"
            )
        sizes[id(one)] = deep, size


@record
class Number(Node):
    """A number as it is written: a whole number or an exact decimal."""

    value: Decimal

    def __str__(self) -> str:
        return f"{self.value:f}"


@record
class Text(Node):
    """A text in single quotes."""

    value: str

    def __str__(self) -> str:
        return "'" + self.value.replace("'", "''") + "'"


@record
class Name(Node):
    """A column."""

    name: str

    def __str__(self) -> str:
        if _PLAIN.fullmatch(self.name):
            return self.name
        return '"' + self.name.replace('"', '""') + '"'


@record
class _OfOne(Node):
    """A node above one other."""

    value: Node

    @property
    def parts(self) -> tuple[Node, ...]:
        """The one below."""
        return (self.value,)


@record
class _OfTwo(Node):
    """A node above two others, which are joined by a mark or word."""

    how: str
    left: Node
    right: Node

    @property
    def parts(self) -> tuple[Node, ...]:
        """Both sides."""
        return (self.left, self.right)

    def __str__(self) -> str:
        return f"{_bracket(self.left)} {self.how} {_bracket(self.right)}"


@record
class Negate(_OfOne):
    """A value with its sign turned."""

    def __str__(self) -> str:
        return f"-{_bracket(self.value)}"


@record
class Not(_OfOne):
    """A condition turned round."""

    def __str__(self) -> str:
        return f"not {_bracket(self.value)}"


@record
class IsBlank(_OfOne):
    """Whether there is no value."""

    def __str__(self) -> str:
        return f"{_bracket(self.value)} is blank"


class BinaryOp(_OfTwo):
    """Two numbers added, subtracted, multiplied, divided, or the remainder of a division."""

    how: ArithmeticOperator


class Comparison(_OfTwo):
    """Two values compared."""

    how: ComparisonOperator


class BoolOp(_OfTwo):
    """Two conditions joined by `and` or `or`."""

    how: Literal["and", "or"]


@record
class In(Node):
    """Whether a value is one of several."""

    value: Node
    choices: tuple[Node, ...]

    @property
    def parts(self) -> tuple[Node, ...]:
        """The value and the several."""
        return (self.value, *self.choices)

    def __str__(self) -> str:
        return f"{_bracket(self.value)} in ({', '.join(map(str, self.choices))})"


@record
class Call(Node):
    """A function of some values."""

    function: str
    given: tuple[Node, ...]

    @property
    def parts(self) -> tuple[Node, ...]:
        """The values."""
        return self.given

    def __str__(self) -> str:
        return f"{self.function}({', '.join(map(str, self.given))})"


@record
class Where(Node):
    """A value where a condition is true, and blank elsewhere; without a value, whether it is."""

    value: Node | None
    condition: Node

    @property
    def parts(self) -> tuple[Node, ...]:
        """The value and the condition."""
        return (self.condition,) if self.value is None else (self.value, self.condition)

    def __str__(self) -> str:
        value = "" if self.value is None else f"{self.value} "
        return f"{value}where {self.condition}"


def names_in(node: Node) -> list[str]:
    """Return the names of the columns that an expression uses, each once."""
    return list(dict.fromkeys(part.name for part in node.all() if isinstance(part, Name)))


def rename_columns(node: Node, names: Mapping[str, str]) -> Node:
    """Return an expression whose columns have other names.

    >>> str(rename_columns(BinaryOp("/", Name("a"), Name("b")), {"a": "fares"}))
    'fares / b'
    """
    if isinstance(node, Name):
        return replace(node, name=names.get(node.name, node.name))
    changed = dict[str, Any]()
    for attribute in fields(node):
        value = getattr(node, attribute.name)
        if isinstance(value, Node):
            changed[attribute.name] = rename_columns(value, names)
        elif isinstance(value, tuple):
            changed[attribute.name] = tuple(rename_columns(part, names) for part in value)
    return replace(node, **changed)


def _bracket(node: Node) -> str:
    """Return a part of a larger expression as text, in brackets where it is not simple."""
    return str(node) if isinstance(node, Number | Text | Name | Call) else f"({node})"
