"""`Term`: one calculation on a column, or on totals of a finer grain or of a column's values; and
`Arithmetic`.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Literal, NamedTuple, TypeAlias, get_args

import numpy as np

from eptaro.core.expressions.kinds import ValueKind, kind_of
from eptaro.core.expressions.parser import Formula
from eptaro.core.expressions.tree import Name, Node, Where, error_at, rename_columns
from eptaro.core.results.column import Column
from eptaro.record import Record, record

NestedGrain: TypeAlias = Literal[
    "day", "workday", "active day", "week", "month", "quarter", "half", "year"
]
NESTED_GRAINS: tuple[NestedGrain, ...] = get_args(NestedGrain)
CARRIED = ("closing", "opening")
DAYS: tuple[NestedGrain, ...] = ("day", "workday", "active day")  # grains whose units are days


class Members(NamedTuple):
    """The column by whose values rows are added up, and the two columns that are kept of it.

    `codes` is that column where there is a value to add up, `values` the value where there is one
    in that column: both leave the same rows out, so that their lists go side by side. Where rows
    are only counted there are no `values`.
    """

    column: str
    codes: Formula
    values: Formula | None = None


class Term(NamedTuple):
    """One calculation: on a column, or on `inner` totals: of a finer `grain`, or of `members`.

    `how` names a calculation of the catalogue. `count()` has no column, only quantiles a
    share.
    """

    how: str
    column: str
    share: float = 0.5
    inner: Term | Arithmetic | None = None
    grain: str = ""
    formula: Formula | None = None  # of a column that is calculated
    members: Members | None = None
    over_all: bool = False  # new to the whole book, whichever groups are looked at
    table: str = ""  # the book of a set that it is of

    @property
    def is_balance(self) -> bool:
        """Whether it is a balance of accounts, which is carried forward from day to day."""
        return self.members is not None and self.how in CARRIED

    @property
    def parts(self) -> tuple[Term, ...]:
        """The terms that work on rows: those of the inner totals, or the term itself."""
        match self.inner:
            case None:
                return (self,)
            case Term():
                return (self.inner,)
            case Arithmetic():
                return self.inner.terms

    @property
    def rows_met(self) -> Formula | None:
        """Which rows meet the condition of the term, where it has one and a value beside it."""
        node = None if self.formula is None else self.formula.node
        if self.formula is None or not isinstance(node, Where) or node.value is None:
            return None
        return replace(self.formula, node=Where(None, node.condition), wanted=None)

    def __str__(self) -> str:
        plain = self.formula is not None or not re.search(r"[^\w .]", self.column)
        body = self.column if plain else str(Name(self.column))
        if self.is_balance and self.members is not None and isinstance(self.inner, Term):
            body = f"{str(self.inner)[len('last(') : -1]} per {Name(self.members.column)}"
        elif self.inner is not None:
            per = self.grain if self.members is None else Name(self.members.column)
            body = f"{self.inner} per {per}"
        share = f", {self.share:g}" if self.how == "quantile" else ""
        of = f" of {self.table}" if self.table else ""
        return f"{self.how}({body}{share}{' over all' if self.over_all else ''}){of}"


@record
class Arithmetic(Record):
    """A formula whose names are terms as they are written; a ratio of sums is one in every total.

    `text` is what was written.
    """

    text: str
    node: Node
    terms: tuple[Term, ...]

    def __str__(self) -> str:
        return self.text

    def of_table(self, table: str) -> Arithmetic:
        """Return the formula of the same terms of one book of a set."""
        terms = tuple(term._replace(table=table) for term in self.terms)
        names = {str(old): str(new) for old, new in zip(self.terms, terms, strict=True)}
        return Arithmetic(self.text, rename_columns(self.node, names), terms)

    def check(self) -> None:
        """Raise `ExpressionError` where it is not a number."""
        kind = kind_of(self.node, self._kinds, self.text)
        if kind is not ValueKind.NUMBER:
            message = f"this is {kind.value}, and a measure is a number"
            raise error_at(self.text, self.node.at, message)

    @property
    def _kinds(self) -> dict[str, ValueKind]:
        return dict.fromkeys(map(str, self.terms), ValueKind.NUMBER)

    def value(self, parts: Sequence[Column]) -> Column:
        """Return the result of the totals of its terms, blank where one is or a divisor is 0."""
        from eptaro.core.expressions.evaluate import evaluate  # few measures are calculated so

        columns = dict(zip(map(str, self.terms), parts, strict=True))
        column = evaluate(self.node, self.text, columns, self._kinds, len(parts[0]), {})
        if column.kind != "float":
            return column
        finite = np.isfinite(column.data)
        return Column.of("", "float", np.where(finite, column.data, 0.0), finite).blanked(
            ~column.blank
        )
