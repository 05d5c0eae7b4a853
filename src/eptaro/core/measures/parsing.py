"""Parsing the text of a term."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from eptaro.core.expressions.kinds import ValueKind
from eptaro.core.expressions.parser import Formula, Parser, Token
from eptaro.core.expressions.tree import (
    BoolOp,
    IsBlank,
    Name,
    Node,
    Not,
    Where,
    check_size,
    error_at,
)
from eptaro.core.measures.calculations import CATALOGUE, Calculation, calculation
from eptaro.core.measures.term import CARRIED, NESTED_GRAINS, Arithmetic, Members, Term
from eptaro.errors import ExpressionError, MeasureError, unknown

MEASURE_FUNCTIONS = ("abs", "round", "floor", "ceil", "least", "greatest", "coalesce", "if")
EXAMPLE = "write it as name=how(column), for example revenue=sum(fare)"


_CALL = re.compile(r"\s*\w+\s*\(")
_OVER_ALL = re.compile(r"\s+over\s+all\s*$")
_PER = re.compile(r"per\s+\S")
_BY_ORDER = ("first", "last", "new", *CARRIED)  # which totals without an order have not
_PLAIN = re.compile(r"\s*(\w+)\(\s*([^\W\d]\w*)?\s*\)")  # sum(fare), count()
_JOINING = frozenset(("and", "or", "not", "in", "between", "is", "blank", "where", "per"))


def parse_term(text: str, whole: str) -> tuple[Term, str]:
    """Return the term that a text begins with, and the rest of the text."""
    plain = _PLAIN.match(text)
    if plain is not None and (how := CATALOGUE.get(plain[1])) is not None and not how.takes_share:
        column = plain[2] or ""
        is_formula = plain[1] not in CARRIED and column.lower() not in _JOINING
        if (column or not how.needs_column) and is_formula:
            return Term(plain[1], column), text[plain.end() :]
    return _parse_formula(text, whole)


def _parse_formula(text: str, whole: str) -> tuple[Term, str]:
    match = re.match(r"\s*(\w+)\s*\(", text)
    stop = _closing_bracket(text, match.end()) if match else -1
    if match is None:
        raise MeasureError(f"{whole!r} is not a measure; {EXAMPLE}")
    if stop < 0:
        raise MeasureError(f"{whole!r}: the bracket after {match[1]} is not closed")
    how, body = match[1], text[match.end() : stop]
    found_how = calculation(how, f"calculation in {whole!r},")
    body, share = _share(body, found_how, whole)
    cut = _last_per(body)
    if how in CARRIED:
        if cut < 1:
            alone = f"; of a single one, use last({body.strip()})" if how == "closing" else ""
            raise MeasureError(
                f"{whole!r}: name the accounts, as in {how}(balance per account){alone}"
            )
        return _balance(how, body[:cut].strip(), body[cut:], whole), text[stop + 1 :]
    if cut > 0 and _CALL.search(body[:cut]):
        per = body[cut:].strip()[len("per") :].strip()
        return _nested_term(found_how, share, body[:cut].strip(), per, whole), text[stop + 1 :]
    wide = _OVER_ALL.search(body)
    if wide is not None and how == "new":
        body = body[: wide.start()]
    column = body.strip()
    if column == "*":
        instead = "it is written count()" if how == "count" else f"name a column, as in {how}(fare)"
        raise MeasureError(f"{whole!r}: '*' is not a column; {instead}")
    if not column and found_how.needs_column:
        raise MeasureError(f"{whole!r} names no column; {EXAMPLE}")
    kind = ValueKind.NUMBER if found_how.needs_numbers else None
    formula = _formula(column, kind, whole) if column else None
    if formula is None or isinstance(formula.node, Name):
        name = column if formula is None else formula.name
        return Term(how, name, share, over_all=wide is not None), text[stop + 1 :]
    term = Term(how, formula.name, share, formula=formula, over_all=wide is not None)
    return term, text[stop + 1 :]


def _formula(column: str, kind: ValueKind | None, whole: str) -> Formula | None:
    """Return what a measure works on as a formula; None for a plain name of several words."""
    try:
        return Formula.column(column, kind)
    except ExpressionError as error:
        if re.fullmatch(r"[\w .]+", column):
            return None
        raise MeasureError(f"{whole!r} is not a measure: {error}") from None


class MeasureParser(Parser):
    """Reads a measure: calculations, earlier measures and numbers, and what joins them.

    `earlier` holds the nodes and terms of the measures that may be named.
    """

    def __init__(self, text: str, whole: str, earlier: Mapping[str, Arithmetic]) -> None:
        super().__init__(text)
        self._whole, self._earlier = whole, earlier
        self._terms: dict[str, Term] = {}

    def arithmetic(self) -> Arithmetic:
        """Return the whole text as a formula of terms."""
        node = self.condition()
        self.expect_end()
        if not self._terms:
            raise error_at(self.text, 0, "a measure works on a column, as in sum(fare)")
        check_size(node, self.text)
        arithmetic = Arithmetic(self.text.strip(), node, tuple(self._terms.values()))
        arithmetic.check()
        return arithmetic

    def _read_call(self, token: Token) -> Node:
        if token.value in CATALOGUE:
            term, rest = parse_term(self.text[token.at :], self._whole)
            end = len(self.text) - len(rest)
            while self.token.kind != "end" and self.token.at < end:
                self.next_token()
            self._terms[str(term)] = term
            return Name(str(term), at=token.at)
        if token.value.lower() not in MEASURE_FUNCTIONS:
            names = [*CATALOGUE, *MEASURE_FUNCTIONS]
            raise error_at(self.text, token.at, unknown("calculation", token.value, names))
        return super()._read_call(token)

    def _read_name(self, name: str, at: int) -> Node:
        if name in CATALOGUE and name not in self._earlier:
            raise error_at(self.text, at, EXAMPLE)
        if name not in self._earlier:
            message = unknown("earlier measure", name, self._earlier)
            raise error_at(
                self.text, at, f"{message}; a column belongs inside a calculation: sum(fare)"
            )
        earlier = self._earlier[name]
        self._terms |= {str(term): term for term in earlier.terms}
        return earlier.node


def _nested_term(how: Calculation, share: float, inner: str, per: str, whole: str) -> Term:
    """Return a term on the totals of a finer grain, or of each value of a column."""
    if per not in NESTED_GRAINS:
        return _term_of_members(how, share, inner, per, whole)
    content = _parse_inner(inner, whole)
    parts = content.terms if isinstance(content, Arithmetic) else (content,)
    if any(part.inner is not None and not part.is_balance for part in parts):
        raise MeasureError(f"{whole!r}: a measure has one 'per': max(sum(fare) per day)")
    return Term(how.name, parts[0].column, share, content, per)


def _balance(how: str, value: str, per: str, whole: str) -> Term:
    """Return a term on the last value of each account."""
    word = per.strip()[len("per") :].strip()
    if word in NESTED_GRAINS:
        raise MeasureError(
            f"{whole!r}: a balance is of accounts, by whichever column names them: {how}(balance "
            f"per account)"
        )
    owner = _owner(word, whole)
    last, _ = parse_term(f"last({value})", whole)
    return Term(how, last.column, 0.5, last, members=_members(owner, last))


def _parse_inner(inner: str, whole: str) -> Term | Arithmetic:
    """Return what is calculated per unit: one calculation, or a formula of several."""
    if _CALL.match(inner):
        term, rest = parse_term(inner, whole)
        if not rest.strip():
            return term
    try:
        return MeasureParser(inner, whole, {}).arithmetic()
    except ExpressionError as error:
        raise MeasureError(f"{whole!r} is not a measure: {error}") from None


def _term_of_members(how: Calculation, share: float, inner: str, per: str, whole: str) -> Term:
    """Return a term on the totals of each value of a column."""
    owner = _owner(per, whole)
    content = _parse_inner(inner, whole)
    if isinstance(content, Arithmetic):
        raise MeasureError(
            f"{whole!r}: write one calculation before 'per {per}', for example sum(fare) per {per}"
        )
    for name in (how.name, content.how):
        if name in _BY_ORDER:
            raise MeasureError(
                f"{whole!r}: {name} goes by the order of rows, and totals per {per} have none"
            )
    if content.inner is not None:
        raise MeasureError(f"{whole!r}: a measure has one 'per': max(sum(fare) per day)")
    members = _members(owner, content)
    return Term(how.name, content.column, share, content, members=members)


def _owner(per: str, whole: str) -> Name:
    """Return the column that a word after `per` names."""
    from difflib import get_close_matches  # few measures need it

    try:
        owner = Formula.column(per)
    except ExpressionError:
        message = unknown(f"grain in {whole!r},", per, NESTED_GRAINS)
        raise MeasureError(f"{message}, or the name of a column") from None
    quoted = per.startswith('"')
    if not isinstance(owner.node, Name) or (not quoted and get_close_matches(per, NESTED_GRAINS)):
        raise MeasureError(
            f"{unknown(f'grain in {whole!r},', per, NESTED_GRAINS)}; a column is written in double "
            f'quotes: per "{per}"'
        )
    return owner.node


def _members(owner: Name, inner: Term) -> Members:
    """Return the columns that are kept for the totals of each value of a column."""
    node = inner.formula.node if inner.formula is not None else Name(inner.column)
    value: Node | None = node if inner.column else None
    condition: Node | None = None
    if isinstance(node, Where):
        value, condition = node.value, node.condition
    there = None if value is None else Not(IsBlank(value))
    codes = _where_formula(owner, condition, there)
    if value is None or inner.how == "count":
        return Members(owner.name, codes)
    kind = None if inner.how == "distinct" else ValueKind.NUMBER
    values = _where_formula(value, condition, Not(IsBlank(owner)))
    return Members(owner.name, codes, replace(values, wanted=kind))


def _where_formula(value: Node, *conditions: Node | None) -> Formula:
    """Return a value where conditions are met, as a formula."""
    present = [condition for condition in conditions if condition is not None]
    node = value
    if present:
        node = Where(value, present[0] if len(present) == 1 else BoolOp("and", *present))
    return Formula(str(node), node)


def _last_per(body: str) -> int:
    """Return the place of the last word `per` outside of brackets and quotes, or -1."""
    depth, position = 0, -1
    for place, letter in _outside_quotes(body, 0):
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if letter == "p" and not depth and _PER.match(body, place) and body[place - 1].isspace():
            position = place
    return position


def _closing_bracket(text: str, start: int) -> int:
    """Return the place of the bracket that closes the one before `start`, or -1."""
    depth = 1
    for place, letter in _outside_quotes(text, start):
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if not depth:
            return place
    return -1


def _outside_quotes(text: str, start: int) -> Iterator[tuple[int, str]]:
    """Yield the places and letters from a place on that do not lie between quotes."""
    quote = ""
    for place in range(start, len(text)):
        letter = text[place]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        else:
            yield place, letter


def _last_comma(body: str) -> int:
    """Return the place of the last comma outside of brackets and quotes, or -1."""
    depth, position = 0, -1
    for place, letter in _outside_quotes(body, 0):
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if letter == "," and not depth:
            position = place
    return position


def _share(body: str, how: Calculation, whole: str) -> tuple[str, float]:
    """Return the body without its share, and the share; only quantiles have one."""
    comma = _last_comma(body)
    if not how.takes_share:
        if comma >= 0:
            raise MeasureError(f"{whole!r}: only a quantile takes a share: quantile(x, 0.9)")
        return body, 0.5
    try:
        number = float(body[comma + 1 :]) if comma > 0 else -1.0
    except ValueError:
        number = -1.0
    if not 0 <= number <= 1:
        raise MeasureError(f"{whole!r}: a quantile takes a share from 0 to 1: quantile(x, 0.9)")
    return body[:comma], number
