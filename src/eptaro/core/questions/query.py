"""`Query`: what a verb is asked, and the methods that ask it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, dataclass, field
from functools import wraps
from inspect import Parameter, signature
from typing import (
    TYPE_CHECKING,
    Any,
    ClassVar,
    Concatenate,
    Literal,
    NamedTuple,
    ParamSpec,
    Protocol,
    Self,
    TypeAlias,
    cast,
)

from eptaro.core.questions.scope import AsOf, By, Only
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError, unknown

if TYPE_CHECKING:
    from eptaro.core.questions.view import Facts


class OptionHelp(NamedTuple):
    """How an option is shown where it is written in words, as on a command line.

    `heading` is what it belongs to: the question or the groups. A `rare` one is shown on request.
    `least` and `most` bound a number; `shown` says whether the default is.
    """

    help: str
    metavar: str | None
    heading: Literal["question", "groups"]
    rare: bool
    least: int | None
    most: int | None
    shown: bool


def option(
    default: Any = MISSING,
    *,
    help: str,
    metavar: str | None = None,
    heading: Literal["question", "groups"] = "question",
    rare: bool = False,
    least: int | None = None,
    most: int | None = None,
    shown: bool = False,
) -> Any:
    """Return a field of a query, with how it is shown; see `OptionHelp`."""
    how = OptionHelp(help, metavar, heading, rare, least, most, shown)
    return field(default=default, metadata={"shown": how})


@dataclass(frozen=True, kw_only=True)
class Query:
    """What a verb is asked: the options that all have, and those of each in a class of its own.

    `pictures` names those of `pictures/draw.py` that suit every answer, the most fitting first.
    """

    verb: ClassVar[str]
    pictures: ClassVar[tuple[str, ...]] = ()
    by: By = None
    only: Only = None
    as_of: AsOf = None

    def answer(self, facts: Facts) -> Table:
        """Return what the facts, all in one calendar, answer."""
        raise NotImplementedError

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


class AnswersQueries(Protocol):
    """What answers queries."""

    def ask(self, query: Query) -> Table:
        """Return the answer to a query."""


Options = ParamSpec("Options")
Method: TypeAlias = Callable[Concatenate[Any, Options], Table]


def method_of(query: Callable[Options, Query]) -> Method[Options]:
    """Return the method that asks such a query: its parameters and its documentation are those of
    the query's class.
    """

    kind = cast("type[Query]", query)
    parameters = list(signature(kind).parameters.values())
    names = [parameter.name for parameter in parameters]

    def method(self: AnswersQueries, /, *args: Options.args, **options: Options.kwargs) -> Table:
        for name in options:
            if name not in names:
                raise QuestionError(unknown(f"option of {kind.verb}", name, names))
        return self.ask(query(*args, **options))

    wraps(kind, updated=())(method)
    method.__name__ = kind.verb
    own = Parameter("self", Parameter.POSITIONAL_ONLY)
    method.__signature__ = signature(kind).replace(  # type: ignore[attr-defined]
        parameters=[own, *parameters], return_annotation="Table"
    )
    return cast("Method[Options]", method)
