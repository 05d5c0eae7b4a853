"""The parser of expressions, by the precedence of operators.

From the loosest: `or`, `and`, `not`, comparisons (with `in`, `between`, `is blank`), `+ -`,
`* / %`, the sign. Words are operators only where one can be, so that columns may have any name.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import field, replace
from decimal import Decimal
from typing import Literal, NamedTuple, cast

from eptaro.core.calendars.grain import CivilGrain
from eptaro.core.expressions.kinds import FUNCTIONS, Use, ValueKind, column_uses
from eptaro.core.expressions.tree import (
    ArithmeticOperator,
    BinaryOp,
    BoolOp,
    Call,
    Comparison,
    ComparisonOperator,
    In,
    IsBlank,
    Name,
    Negate,
    Node,
    Not,
    Number,
    Text,
    Where,
    check_size,
    error_at,
    names_in,
)
from eptaro.errors import DateError, ExpressionError, count_noun, show_option, unknown
from eptaro.record import Record, record

MOST_LETTERS = 10_000
MOST_DIGITS = 38  # of a number

_TOKEN = re.compile(
    r"""\s*(?:
      (?P<number>(?:\d+(?:\.\d*)?|\.\d+))(?![\w.])
    | (?P<text>'(?:[^']|'')*')
    | (?P<quoted>"(?:[^"]|"")*")
    | (?P<word>[^\W\d]\w*(?:\.[^\W\d]\w*)*)
    | (?P<mark><=|>=|<>|!=|==|[-+*/%(),=<>])
    )""",
    re.VERBOSE,
)
_SAME = {"==": "=", "<>": "!="}


class Token(NamedTuple):
    """A number, a text, a column in double quotes, a word, a mark, or the end."""

    kind: Literal["number", "text", "quoted", "word", "mark", "end"]
    value: str
    at: int


def tokens_of(text: str) -> list[Token]:
    """Return the tokens of a text, the end last.

    >>> [token.value for token in tokens_of("fare >= 1.5")]
    ['fare', '>=', '1.5', '']
    """
    if len(text) > MOST_LETTERS:
        raise error_at(text, 0, f"an expression has at most {MOST_LETTERS:,} letters")
    tokens, at = [], 0
    end = len(text.rstrip())
    while at < end:
        match = _TOKEN.match(text, at)
        if match is None:
            at += len(text[at:]) - len(text[at:].lstrip())
            raise error_at(text, at, _not_read(text[at:]))
        kind = match.lastgroup
        value, start = match[str(kind)], match.start(str(kind))
        at = match.end()
        match kind:
            case "text":
                tokens.append(Token("text", value[1:-1].replace("''", "'"), start))
            case "quoted":
                tokens.append(Token("quoted", value[1:-1].replace('""', '"'), start))
            case "number":
                if len(value) > MOST_DIGITS + 1:
                    raise error_at(text, start, f"a number has at most {MOST_DIGITS} digits")
                tokens.append(Token("number", value, start))
            case "word":
                tokens.append(Token("word", value, start))
            case _:
                tokens.append(Token("mark", _SAME.get(value, value), start))
    return [*tokens, Token("end", "", end)]


def quoted_name(column: str) -> str:
    """Return the name of a column as formulas have it.

    >>> print(quoted_name("fare"), quoted_name("net fare"))
    fare "net fare"
    """
    if column.isascii() and column.isidentifier():
        return column
    return '"' + column.replace('"', '""') + '"'


def _not_read(rest: str) -> str:
    """Return what is wrong where no token begins."""
    if rest[0] == "'":
        return "this text has no closing quote"
    if rest[0] == '"':
        return "this column name has no closing quote"
    if rest[0].isdigit() or (rest[0] == "." and rest[1:2].isdigit()):
        return "this is not a number; put a name that begins with a digit in double quotes"
    return f"{rest[0]!r} has no meaning here; put a column name that contains it in double quotes"


MOST_DEEP = 60  # brackets, signs and negations within each other
_COMPARED = ("=", "!=", "<", "<=", ">", ">=")
_OPERATORS = ("and", "or", "in", "between", "is")


def parse(text: str) -> Node:
    """Return the tree of an expression.

    Raises `ExpressionError`, with a caret under the place, for text that is none.

    >>> print(parse("fare * 2 > 10 and not cargo"))
    ((fare * 2) > 10) and (not cargo)
    """
    parser = Parser(text)
    node = parser.condition()
    parser.expect_end()
    check_size(node, text)
    return node


class Parser:
    """Reads one text from left to right."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._tokens = tokens_of(text)
        self._next = 0
        self._depth = 0

    @property
    def token(self) -> Token:
        """The token that comes next."""
        return self._tokens[self._next]

    def is_word(self, *words: str) -> bool:
        """Return whether one of some words comes next."""
        return self.token.kind == "word" and self.token.value in words

    def is_mark(self, *marks: str) -> bool:
        """Return whether one of some marks comes next."""
        return self.token.kind == "mark" and self.token.value in marks

    def next_token(self) -> Token:
        """Return the token that comes next, and go on."""
        token = self.token
        self._next += token.kind != "end"
        return token

    def expect(self, mark: str, why: str) -> Token:
        """Return the mark that must come next."""
        if not self.is_mark(mark):
            raise error_at(self.text, self.token.at, f"{mark!r} is missing {why}")
        return self.next_token()

    def expect_end(self) -> None:
        """Raise `ExpressionError` where more follows."""
        if self.is_word("where"):
            cure = "write a condition inside the brackets: sum(fare where fare > 20)"
            raise error_at(self.text, self.token.at, f"'where' cannot follow here; {cure}")
        if self.token.kind != "end":
            what = self.token.value if self.token.kind != "text" else f"'{self.token.value}'"
            raise error_at(
                self.text,
                self.token.at,
                f"an operator is missing before {what!r}, or it should not be there; "
                f"put a column name of several words in double quotes",
            )

    def value_where(self) -> Node:
        """Return a value with the condition that may follow it, as inside of a measure."""
        if self.is_word("where") and self._begins_value(self._tokens[self._next + 1]):
            return Where(None, self._after_where(), at=self.token.at)
        value = self.condition()
        if self.is_word("where"):
            at = self.token.at
            return Where(value, self._after_where(), at=at)
        return value

    def _after_where(self) -> Node:
        self.next_token()
        return self.condition()

    def _begins_value(self, token: Token) -> bool:
        """Return whether a token can begin a value, so that a word before it is an operator."""
        if token.kind == "word":
            return token.value not in _OPERATORS
        return token.kind in ("number", "text", "quoted") or token.value in ("(", "-")

    def condition(self) -> Node:
        """Return what `or` joins."""
        node = self._all_of()
        while self.is_word("or"):
            at = self.next_token().at
            node = BoolOp("or", node, self._all_of(), at=at)
        return node

    def _all_of(self) -> Node:
        node = self._parse_not()
        while self.is_word("and"):
            at = self.next_token().at
            node = BoolOp("and", node, self._parse_not(), at=at)
        return node

    def _parse_not(self) -> Node:
        if self.is_word("not") and self._begins_value(self._tokens[self._next + 1]):
            at = self.next_token().at
            self._deeper(at)
            node = Not(self._parse_not(), at=at)
            self._depth -= 1
            return node
        return self._parse_comparison()

    def _parse_comparison(self) -> Node:
        left = self._parse_sum()
        chained: Node | None = None
        while True:
            at = self.token.at
            if self.is_mark(*_COMPARED):
                how = cast("ComparisonOperator", self.next_token().value)
                right = self._parse_sum()
                comparison: Node = Comparison(how, left, right, at=at)
                chained = (
                    comparison if chained is None else BoolOp("and", chained, comparison, at=at)
                )
                left = right
            elif chained is None and (found_word := self._by_word(left, at)) is not None:
                left = found_word
            else:
                return left if chained is None else chained

    def _by_word(self, left: Node, at: int) -> Node | None:
        """Return what `in`, `between` or `is` say of a value, or None where none comes next."""
        negated = self.is_word("not") and self._tokens[self._next + 1].value in ("in", "between")
        if negated:
            self.next_token()
        node: Node
        if self.is_word("in"):
            self.next_token()
            node = In(left, self._list("after 'in'"), at=at)
        elif self.is_word("between"):
            self.next_token()
            low = self._parse_sum()
            if not self.is_word("and"):
                raise error_at(self.text, self.token.at, "'and' is missing: write between 5 and 10")
            self.next_token()
            high = self._parse_sum()
            ends = (Comparison(">=", left, low, at=at), Comparison("<=", left, high, at=at))
            node = BoolOp("and", *ends, at=at)
        elif self.is_word("is"):
            self.next_token()
            negated = self.is_word("not")
            if negated:
                self.next_token()
            if not self.is_word("blank"):
                raise error_at(self.text, self.token.at, "'blank' is missing: write x is blank")
            self.next_token()
            node = IsBlank(left, at=at)
        else:
            return None
        return Not(node, at=at) if negated else node

    def _list(self, why: str) -> tuple[Node, ...]:
        self._deeper(self.expect("(", why).at)
        items = [self.condition()]
        while self.is_mark(","):
            self.next_token()
            items.append(self.condition())
        self.expect(")", "to close the bracket")
        self._depth -= 1
        return tuple(items)

    def _parse_sum(self) -> Node:
        node = self._parse_product()
        while self.is_mark("+", "-"):
            token = self.next_token()
            how = cast("ArithmeticOperator", token.value)
            node = BinaryOp(how, node, self._parse_product(), at=token.at)
        return node

    def _parse_product(self) -> Node:
        node = self._parse_sign()
        while self.is_mark("*", "/", "%"):
            token = self.next_token()
            how = cast("ArithmeticOperator", token.value)
            node = BinaryOp(how, node, self._parse_sign(), at=token.at)
        return node

    def _parse_sign(self) -> Node:
        if not self.is_mark("-"):
            return self._value()
        at = self.next_token().at
        self._deeper(at)
        value = self._parse_sign()
        self._depth -= 1
        return Number(-value.value, at=at) if isinstance(value, Number) else Negate(value, at=at)

    def _value(self) -> Node:
        token = self.next_token()
        match token.kind:
            case "number":
                return Number(Decimal(token.value), at=token.at)
            case "text":
                return Text(token.value, at=token.at)
            case "quoted":
                return self._read_name(token.value, token.at)
            case "word" if self.is_mark("("):
                return self._read_call(token)
            case "word":
                return self._read_name(token.value, token.at)
            case "mark" if token.value == "(":
                self._deeper(token.at)
                node = self.condition()
                self.expect(")", "to close the bracket")
                self._depth -= 1
                return node
        what = "at the end" if token.kind == "end" else f"before {token.value!r}"
        raise error_at(self.text, token.at, f"a value is missing {what}")

    def _read_name(self, name: str, at: int) -> Node:
        return Name(name, at=at)

    def _read_call(self, token: Token) -> Node:
        name = token.value.lower()
        if name not in FUNCTIONS:
            raise error_at(self.text, token.at, unknown("function", token.value, FUNCTIONS))
        arguments = self._list(f"after {name}")
        function = FUNCTIONS[name]
        if not function.least <= len(arguments) <= function.most:
            message = (
                f"{name} is given {count_noun(len(arguments), 'value')}; write {function.shown}"
            )
            raise error_at(self.text, token.at, message)
        return Call(name, arguments, at=token.at)

    def _deeper(self, at: int) -> None:
        self._depth += 1
        if self._depth > MOST_DEEP:
            raise error_at(self.text, at, f"brackets and signs go deeper than {MOST_DEEP}")


@record
class Formula(Record):
    """An expression, the text that it was written as, and what it is to be, where that is known."""

    text: str
    node: Node
    wanted: ValueKind | None = None

    @classmethod
    def condition(cls, text: object) -> Formula:
        """Return a condition on rows.

        Raises `ExpressionError` where it is none.
        """
        if not isinstance(text, str):
            raise ExpressionError(f"where={text!r} must be a condition in text")
        return cls(text, parse(text), ValueKind.FLAG)

    @classmethod
    def column(cls, text: str, wanted: ValueKind | None = None) -> Formula:
        """Return an expression for a column, which a condition may follow after `where`."""
        parser = Parser(text)
        node = parser.value_where()
        parser.expect_end()
        check_size(node, text)
        return cls(text, node, wanted)

    @classmethod
    def date(cls, text: str) -> Formula | None:
        """Return the expression of a date; None for a text that is the name of a column.

        A sum that is to be a date can only be a date and a number of days. Raises `DateError` for
        one that takes no column.

        >>> Formula.date("sold on"), str(Formula.date("entered + 7 * (week - 1)").node)
        (None, 'shift(entered, 7 * (week - 1))')
        """
        if not _DATE_FORMULA.match(text):
            return None
        formula = cls.column(text, ValueKind.DATE)
        if not formula.names:
            raise DateError(
                f"{show_option('date', text)} is the same in every row; name the columns that "
                f"dates are calculated from, such as date(year, month, day)"
            )
        return replace(formula, node=_shift_dates(formula.node))

    @property
    def grain(self) -> CivilGrain | None:
        """The periods that every date of it begins: `date(y, m, 1)` is the first of a month; None
        where it may be any day.
        """
        match self.node:
            case Call("date", (_, Number(month), Number(day))) if day == month == 1:
                return "year"
            case Call("date", (_, _, Number(day))) if day == 1:
                return "month"
            case Call("week"):
                return "week"
            case _:
                return None

    @property
    def name(self) -> str:
        """The name of the column that it is, or its text in the one way of writing it."""
        return self.node.name if isinstance(self.node, Name) else str(self.node)

    @property
    def names(self) -> list[str]:
        """The columns that it uses."""
        return names_in(self.node)

    @property
    def uses(self) -> list[Use]:
        """How it uses its columns."""
        return column_uses(self.node, self.wanted)


# A call, or a name and a number of days; columns may be called `order - date` or `start+end`.
_DATE_FORMULA = re.compile(r"\w+\(|[^\W\d]\w*(\s+\+\s|\s*[-+](?=.*[\d*(]))")


def _shift_dates(node: Node) -> Node:
    """Return an expression of a date in which what is added to a date are days."""
    match node:
        case BinaryOp("+" | "-" as how, left, right):
            days = right if how == "+" else Negate(right, at=right.at)
            return Call("shift", (_shift_dates(left), days), at=node.at)
        case _:
            return node


@record
class Formulas(Record):
    """The columns of a book that are calculated, by their names, and the condition on its rows; and
    what the columns of text that both use are taken for.
    """

    columns: Mapping[str, Formula] = field(default_factory=dict)
    where: Formula | None = None
    kinds: Mapping[str, ValueKind] | None = None  # what columns of text are, once that is decided

    @property
    def every(self) -> list[Formula]:
        """All formulas."""
        return [*self.columns.values(), *([] if self.where is None else [self.where])]

    @property
    def names(self) -> list[str]:
        """The columns of the input that they use, each once."""
        return list(dict.fromkeys(name for formula in self.every for name in formula.names))

    def is_conditional(self, name: str) -> bool:
        """Return whether a column is blank where a condition of its own is not met."""
        return name in self.columns and isinstance(self.columns[name].node, Where)

    def __bool__(self) -> bool:
        return bool(self.columns) or self.where is not None


NO_FORMULAS = Formulas()
