"""`Formula`: an expression with its text; `Formulas`: those that a book's rows go through."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from eptaro.core.expressions.kinds import Kind, Use, uses
from eptaro.core.expressions.parser import Parser, parse
from eptaro.core.expressions.tree import Name, Node, Where, check_size, names_in
from eptaro.errors import ExpressionError


@dataclass(frozen=True)
class Formula:
    """An expression, the text that it was written as, and what it is to be, where that is known."""

    text: str
    node: Node
    wanted: Kind | None = None

    @classmethod
    def condition(cls, text: object) -> Formula:
        """Return a condition on rows.

        Raises `ExpressionError` where it is none.
        """
        if not isinstance(text, str):
            raise ExpressionError(f"where={text!r} must be a condition in text")
        return cls(text, parse(text), Kind.FLAG)

    @classmethod
    def column(cls, text: str, wanted: Kind | None = None) -> Formula:
        """Return an expression for a column, which a condition may follow after `where`."""
        parser = Parser(text)
        node = parser.value_where()
        parser.expect_end()
        check_size(node, text)
        return cls(text, node, wanted)

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
        return uses(self.node, self.wanted)


@dataclass(frozen=True)
class Formulas:
    """The columns of a book that are calculated, by their names, and the condition on its rows; and
    what the columns of text that both use are taken for.
    """

    columns: Mapping[str, Formula] = field(default_factory=dict)
    where: Formula | None = None
    kinds: Mapping[str, Kind] | None = None  # what columns of text are, once that is decided

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


PLAIN = Formulas()
