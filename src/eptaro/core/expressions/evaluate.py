"""Expressions calculated over columns, all rows at once.

A value that is written out is a column of one row, which arrays stretch to all others.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags
from eptaro.core.expressions import values as ops
from eptaro.core.expressions.kinds import ValueKind, check_alike, kind_of, ordinal_of_text
from eptaro.core.expressions.parser import Formula
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
from eptaro.core.expressions.values import (
    Truth,
    UnfitError,
    any_of,
    broadcast_flags,
    combine_masks,
    negate_condition,
    valid_mask,
)
from eptaro.core.results.column import Column, of_one_kind
from eptaro.errors import EptaroError

if TYPE_CHECKING:
    from eptaro.core.results.result import Result


_ZERO = Decimal(0)


def evaluate(
    node: Node,
    text: str,
    columns: Mapping[str, Column],
    kinds: Mapping[str, ValueKind],
    rows: int,
    hours: Mapping[str, Column],
) -> Column:
    """Return an expression calculated over some rows.

    `text` is what it was parsed from, `kinds` says what the columns are, and `hours` holds
    the hour of those that have times. Raises `ExpressionError` for what cannot be.

    >>> from eptaro.core.expressions.parser import parse
    >>> price = Column.of("price", "decimal", [150, 225], scale=2)
    >>> node, kinds = parse("price * 2"), {"price": ValueKind.NUMBER}
    >>> doubled = evaluate(node, "price * 2", {"price": price}, kinds, 2, {})
    >>> [str(value) for value in doubled.to_list()]
    ['3.00', '4.50']
    """
    kind_of(node, kinds, text)
    if not rows:  # one row, all blank, has the kinds that none has
        columns, hours = ({n: ops.one_blank(c) for n, c in of.items()} for of in (columns, hours))
    column = _Evaluation(text, columns, kinds, hours).value(node)
    if not rows:
        return column.take(slice(0, 0))
    return column if len(column) == rows else column.take(np.zeros(rows, np.int64))


class _Evaluation:
    def __init__(
        self,
        text: str,
        columns: Mapping[str, Column],
        kinds: Mapping[str, ValueKind],
        hours: Mapping[str, Column],
    ) -> None:
        self._text, self._columns, self._kinds, self._hours = text, columns, kinds, hours

    def value(self, node: Node) -> Column:
        """Return the value of a node."""
        match node:
            case Number(value):
                return ops.number_of(value)
            case Text(value):
                return ops.text_of(value)
            case Name(name):
                return self._columns[name]
            case Negate(part):
                return self._exactly(node, lambda: ops.negate(self.value(part)))
            case BinaryOp(how, left, right):
                one, two = self.value(left), self.value(right)
                return self._exactly(node, lambda: ops.calculate(how, one, two))
            case Call():
                return self._call(node)
            case Where(None, condition):
                data, valid = self._truth(condition)
                true = data if valid is None else data & valid
                return Column.of("", "flag", np.ones(len(true), bool), true)
            case Where(part, condition) if part is not None:
                data, valid = self._truth(condition)
                return self._blank_unless(self.value(part), data if valid is None else data & valid)
            case _:
                data, valid = self._truth(node)
                return Column.of("", "flag", data, broadcast_flags(valid, len(data)))

    def _truth(self, node: Node) -> Truth:
        """Return where a condition is true, and where that is known."""
        match node:
            case Comparison(how, left, right):
                return self._compare(how, left, right)
            case In(value, choices):
                truth: Truth = self._compare("=", value, choices[0])
                for choice in choices[1:]:
                    truth = any_of(truth, self._compare("=", value, choice))
                return truth
            case BoolOp("and", left, right):
                one, two = self._truth(left), self._truth(right)
                return negate_condition(any_of(negate_condition(one), negate_condition(two)))
            case BoolOp(_, left, right):
                return any_of(self._truth(left), self._truth(right))
            case Not(value):
                return negate_condition(self._truth(value))
            case IsBlank(value):
                column = self.value(value)
                flags = valid_mask(column)
                return (np.zeros(len(column), bool) if flags is None else ~flags), None
            case _:
                column = self.value(node)
                data = column.data if column.kind == "flag" else np.zeros(len(column), bool)
                return data, valid_mask(column)

    def _compare(self, how: Any, left: Node, right: Node) -> Truth:
        kind = check_alike([left, right], self._kinds, self._text, left.at)
        one, two = (self._of_kind(node, kind) for node in (left, right))
        if kind is ValueKind.NUMBER or kind is ValueKind.BLANK:
            return ops.compare_numbers(how, one, two)
        valid = combine_masks(valid_mask(one), valid_mask(two))
        if kind is ValueKind.TEXT:
            ranked = ops.rank_texts(one, two)
            return ops.compare_arrays(how, *ranked), valid
        return ops.compare_arrays(how, one.data, two.data), valid

    def _of_kind(self, node: Node, kind: ValueKind) -> Column:
        """Return a value as a kind: a text beside dates is a date, and blanks are anything."""
        if kind is ValueKind.DATE and isinstance(node, Text):
            return Column.of("", "date", [ordinal_of_text(node, self._text)])
        column = self.value(node)
        if kind_of(node, self._kinds, self._text) is not ValueKind.BLANK:
            return column
        return ops.blank_of(kind, len(column))

    def _call(self, node: Call) -> Column:
        name, arguments = node.function, node.given
        match name:
            case "if":
                kind = check_alike(arguments[1:], self._kinds, self._text, node.at)
                data, valid = self._truth(arguments[0])
                true = data if valid is None else data & valid
                one = self._of_kind(arguments[1], kind)
                if len(arguments) == 2:
                    return self._blank_unless(one, true)
                return self._pick(true, one, self._of_kind(arguments[2], kind))
            case "coalesce" | "least" | "greatest":
                kind = check_alike(arguments, self._kinds, self._text, node.at)
                columns = [self._of_kind(part, kind) for part in arguments]
                result = columns[0]
                for column in columns[1:]:
                    if name == "coalesce":
                        flags = valid_mask(result)
                        true = np.ones(len(result), bool) if flags is None else flags
                    else:
                        true = self._wins(result, column, kind, least=name == "least")
                    valid = None
                    if name != "coalesce":
                        valid = combine_masks(valid_mask(result), valid_mask(column))
                    result = self._pick(true, result, column)
                    if valid is not None:
                        result = self._blank_unless(result, valid)
                return result
            case "contains" | "starts" | "ends":
                return self._has(name, arguments)
            case "date":
                year, day = (
                    self._of_kind(part, ValueKind.NUMBER) for part in (arguments[0], arguments[2])
                )
                month = self._of_kind(arguments[1], ValueKind.NUMBER)
                if month.kind == "text":
                    month = ops.month_numbers(month)
                return ops.make_dates(year, month, day)
            case "week":
                year, number = (self._of_kind(part, ValueKind.NUMBER) for part in arguments)
                return ops.make_weeks(year, number)
            case "shift":
                day = self._of_kind(arguments[0], ValueKind.DATE)
                return ops.shift_dates(day, self._of_kind(arguments[1], ValueKind.NUMBER))
            case "days":
                one, two = (self._of_kind(part, ValueKind.DATE) for part in arguments)
                apart = one.data.astype(np.int64) - two.data.astype(np.int64)
                valid = broadcast_flags(combine_masks(one.valid, two.valid), len(apart))
                return Column.of("", "integer", apart, valid)
            case "year" | "month" | "day" | "weekday":
                return ops.part_of_date(self._of_kind(arguments[0], ValueKind.DATE), name)
            case "hour":
                return self._hour(arguments[0])
            case "lower" | "upper" | "trim" | "length":
                return ops.of_text(name, self._of_kind(arguments[0], ValueKind.TEXT))
            case "band":
                return self._band(node)
            case _:
                return self._of_number(node)

    def _of_number(self, node: Call) -> Column:
        column = self._of_kind(node.given[0], ValueKind.NUMBER)
        match node.function:
            case "abs":
                return self._exactly(node, lambda: ops.absolute(column))
            case "floor" | "ceil":
                up = node.function == "ceil"
                return self._exactly(node, lambda: ops.floor_or_ceil(column, up=up))
            case "round":
                places = 0
                if len(node.given) == 2:
                    (by,) = node.given[1:]
                    assert isinstance(by, Number)
                    places = int(by.value)
                    if places != by.value or not -18 <= places <= 18:
                        raise error_at(
                            self._text, by.at, "round takes a whole number from -18 to 18"
                        )
                return self._exactly(node, lambda: ops.round_decimals(column, places))
            case other:
                raise EptaroError(f"{other} has no rule in core/expressions/evaluate.py")

    def _band(self, node: Call) -> Column:
        edges: list[Decimal] = []
        for part in node.given[1:]:
            assert isinstance(part, Number)
            if edges and part.value <= edges[-1]:
                raise error_at(self._text, part.at, "the edges of bands rise: band(x, 0, 50, 100)")
            edges.append(part.value)
        return ops.assign_bands(self._of_kind(node.given[0], ValueKind.NUMBER), edges)

    def _hour(self, node: Node) -> Column:
        if not isinstance(node, Name) or node.name not in self._hours:
            raise error_at(self._text, node.at, "hour takes a column of times")
        return self._hours[node.name]

    def _has(self, name: str, arguments: tuple[Node, ...]) -> Column:
        part = arguments[1]
        assert isinstance(part, Text)
        test = {
            "contains": lambda word: part.value in word,
            "starts": lambda word: word.startswith(part.value),
            "ends": lambda word: word.endswith(part.value),
        }[name]
        return Column.of(
            "", "flag", *ops.text_property(self._of_kind(arguments[0], ValueKind.TEXT), test, bool)
        )

    def _wins(self, left: Column, right: Column, kind: ValueKind, *, least: bool) -> NDArray[Any]:
        if kind is ValueKind.NUMBER or kind is ValueKind.BLANK:
            return ops.compare_numbers("<=" if least else ">=", left, right)[0]
        pair = ops.rank_texts(left, right) if kind is ValueKind.TEXT else [left.data, right.data]
        return ops.compare_arrays("<=" if least else ">=", *pair)

    def _pick(self, true: NDArray[Any], left: Column, right: Column) -> Column:
        """Return the first value where something is true, else the second.

        `true` is `(n_rows,)`, or `(1,)` for a constant.
        """
        if left.kind == "text":
            words = ops.distinct_texts_of(left)
            second = ops.codes_of(right)
            codes = np.where(second < 0, -1, second + len(words))
            return ops.of_words(
                [*words, *ops.distinct_texts_of(right)], np.where(true, ops.codes_of(left), codes)
            )
        flags = [valid_mask(column) for column in (left, right)]
        if left.kind not in ("date", "flag"):
            if "flag" in (left.kind, right.kind):
                left, right = (ops.calculate("+", c, ops.number_of(_ZERO)) for c in (left, right))
            left, right = of_one_kind([left, right])
        size = np.broadcast_shapes(true.shape, left.data.shape, right.data.shape)
        valid = None
        if any(flag is not None for flag in flags):
            there = [np.ones(1, bool) if flag is None else flag for flag in flags]
            valid = np.broadcast_to(np.where(true, *there), size)
        data = np.broadcast_to(np.where(true, left.data, right.data), size)
        return Column.of("", left.kind, data, valid, scale=left.scale)

    def _blank_unless(self, column: Column, true: NDArray[Any]) -> Column:
        """Return a column that is blank where something is not true.

        `true` is `(n_rows,)`, or `(1,)` for a constant.
        """
        size = max(len(column), len(true))
        if len(column) < size:
            column = column.take(np.zeros(size, np.int64))
        keep = np.broadcast_to(true, (size,))
        if column.kind == "text":
            return ops.of_words(ops.distinct_texts_of(column), np.where(keep, column.data, -1))
        return column.blanked(keep)

    def _exactly(self, node: Node, work: Any) -> Column:
        try:
            result: Column = work()
        except UnfitError as error:
            raise error_at(
                self._text,
                node.at,
                f"an exact result does not fit into 64 bits ({error}); round the values, or "
                f"divide by 1 to calculate with floats",
            ) from None
        return result


def row_mask(table: Result, where: str) -> Flags:
    """Return which rows of a table meet a condition; a comparison with a blank is not met."""
    formula = Formula.condition(where)
    columns = {name: table.column(name) for name in formula.names}
    kinds = {name: _kind(column) for name, column in columns.items()}
    truth = evaluate(formula.node, formula.text, columns, kinds, len(table), {})
    flags: Flags = (truth.data != 0) & ~truth.blank
    return flags


def _kind(column: Column) -> ValueKind:
    match column.kind:
        case "text":
            return ValueKind.TEXT
        case "date":
            return ValueKind.DATE
        case "flag":
            return ValueKind.FLAG
        case _:
            return ValueKind.NUMBER
