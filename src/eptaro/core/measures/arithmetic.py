"""`Arithmetic`: what is reckoned from the totals of several terms, such as a margin."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eptaro.core.expressions.kinds import Kind, kind_of
from eptaro.core.expressions.tree import Node, wrong
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column


@dataclass(frozen=True)
class Arithmetic:
    """A formula whose names are terms as they are written; a ratio of sums is one in every total.

    `text` is what was written.
    """

    text: str
    node: Node
    terms: tuple[Term, ...]

    def check(self) -> None:
        """Raise `ExpressionError` where it does not come to a number."""
        found = kind_of(self.node, self._kinds, self.text)
        if found is not Kind.NUMBER:
            said = f"this is {found.value}, and a measure is a number"
            raise wrong(self.text, self.node.at, said)

    @property
    def _kinds(self) -> dict[str, Kind]:
        return dict.fromkeys(map(str, self.terms), Kind.NUMBER)

    def value(self, parts: Sequence[Column]) -> Column:
        """Return what the totals of its terms come to, blank where one is or a divisor is 0."""
        from eptaro.core.expressions.evaluate import evaluated  # few measures are worked out so

        columns = dict(zip(map(str, self.terms), parts, strict=True))
        found = evaluated(self.node, self.text, columns, self._kinds, len(parts[0]), {})
        if found.kind != "float":
            return found
        finite = np.isfinite(found.data)
        return Column.of("", "float", np.where(finite, found.data, 0.0), finite).blanked(
            ~found.blank
        )
