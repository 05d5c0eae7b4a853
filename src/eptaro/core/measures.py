"""Measures: named calculations on transaction columns, written `name=how(column)`."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

from eptaro.core.errors import MeasureError, unknown

HOWS = ("sum", "count", "mean")

_TERM = re.compile(r"\s*(\w+)\s*\(\s*(.*?)\s*\)\s*", re.DOTALL)
_RATIO = re.compile(r"\s*(\w+\s*\([^()]*\))\s*/\s*(\w+\s*\([^()]*\))\s*")
_EXAMPLE = "write it as name=how(column), for example revenue=sum(fare)"


class Term(NamedTuple):
    """One calculation on one column; `count()` has no column."""

    how: str
    column: str

    def __str__(self) -> str:
        return f"{self.how}({self.column})"


class Plane(NamedTuple):
    """What the fold keeps per cell: `rows`, or `filled` (not blank) or `sum` of a column."""

    what: str
    column: str = ""


@dataclass(frozen=True)
class Measure:
    """A named calculation: one term, or the ratio of two.

    >>> Measure.parse("revenue=sum(fare)")
    Measure('revenue=sum(fare)')
    >>> Measure.parse("each=sum(fare)/sum(passengers)").under
    Term(how='sum', column='passengers')
    """

    name: str
    term: Term
    under: Term | None = None

    @classmethod
    def parse(cls, text: str) -> Measure:
        """Return the measure written as `name=how(column)` or `name=how(a)/how(b)`."""
        if not isinstance(text, str):
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        name, equals, body = text.partition("=")
        name = name.strip()
        if not equals or not name or not name.isprintable():
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        if ratio := _RATIO.fullmatch(body):
            return cls(name, _parse_term(ratio[1], text), _parse_term(ratio[2], text))
        return cls(name, _parse_term(body, text))

    @property
    def terms(self) -> tuple[Term, ...]:
        """The one or two terms."""
        return (self.term,) if self.under is None else (self.term, self.under)

    @property
    def planes(self) -> set[Plane]:
        """What the fold must keep for this measure."""
        return {plane for term in self.terms for plane in _planes(term)}

    @property
    def additive_plane(self) -> Plane | None:
        """The one plane whose sum the measure is, or None where parts do not add up."""
        return None if self.under or self.term.how == "mean" else next(iter(self.planes))

    @property
    def formula(self) -> str:
        """The calculation without the name."""
        return "/".join(map(str, self.terms))

    def __repr__(self) -> str:
        return f"Measure('{self.name}={self.formula}')"


def _parse_term(text: str, whole: str) -> Term:
    found = _TERM.fullmatch(text)
    if not found:
        raise MeasureError(f"{whole!r} is not a measure; {_EXAMPLE}")
    how, column = found[1], found[2]
    if how not in HOWS:
        raise MeasureError(unknown(f"calculation in {whole!r},", how, HOWS))
    if not column and how != "count":
        raise MeasureError(f"{whole!r} names no column; {_EXAMPLE}")
    return Term(how, column)


def _planes(term: Term) -> set[Plane]:
    match term.how, term.column:
        case "count", "":
            return {Plane("rows")}
        case "count", column:
            return {Plane("filled", column)}
        case "sum", column:
            return {Plane("sum", column)}
        case _, column:
            return {Plane("sum", column), Plane("filled", column)}


def parse_measures(specs: str | Iterable[str | Measure]) -> tuple[Measure, ...]:
    """Return the measures, which must bear different names."""
    given = [specs] if isinstance(specs, str | Measure) else list(specs)
    measures = tuple(s if isinstance(s, Measure) else Measure.parse(s) for s in given)
    if not measures:
        raise MeasureError(f"no measure is given; {_EXAMPLE}")
    names = [measure.name for measure in measures]
    for name in names:
        if names.count(name) > 1:
            raise MeasureError(f"two measures are called {name!r}; give each its own name")
    return measures
