"""`Query`: what a verb is asked."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar, Self

from eptaro.core.measures.measure import Measures
from eptaro.core.query.scope import AsOf, By, Only

if TYPE_CHECKING:
    from eptaro.core.query.view import BookData
    from eptaro.core.results.result import Result


@dataclass(frozen=True, kw_only=True)
class Query:
    """What a verb is asked: the options that all have, and those of each in a class of its own.

    `pictures` names those of `plots/draw.py` that suit every answer, the most fitting first.
    """

    verb: ClassVar[str]
    pictures: ClassVar[tuple[str, ...]] = ()
    by: By = None
    only: Only = None
    as_of: AsOf = None

    def answer(self, facts: BookData) -> Result:
        """Return what facts in one calendar answer to the query of a verb from elsewhere."""
        raise TypeError(f"{type(self).__name__} does not say how it is answered; give it answer()")

    @property
    def beside(self) -> tuple[str, ...]:
        """The options in use that set groups beside each other, which needs one calendar."""
        return ()

    @property
    def order(self) -> str | None:
        """The column that the rows are put in order by."""
        return None

    def unordered(self) -> Self:
        """Return the query of the same rows in the order of groups and time."""
        return self

    def without_group_goals(self) -> Self:
        """Return the query without goals of single groups, which may be elsewhere."""
        return self


@dataclass(frozen=True, kw_only=True)
class MeasuredQuery(Query):
    """What a verb is asked that answers with measures: those of the book, or some that its cells
    allow.
    """

    measures: Measures | None = None
