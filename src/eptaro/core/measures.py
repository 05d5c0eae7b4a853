"""Measures: named calculations on transaction columns, written `name=how(column)`."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

from eptaro.core.errors import MeasureError, unknown

HOWS = (
    *("sum", "count", "mean", "min", "max", "first", "last"),
    *("distinct", "std", "var", "median", "quantile"),
)
ANY_KIND = ("count", "distinct")  # the rest want numbers

_TERM = re.compile(
    r"""\s*(?P<how>\w+)\s*\(\s*
    (?:"(?P<quoted>[^"]*)"|(?P<plain>[^()",]*?))\s*
    (?:,\s*(?P<share>[^(),]*?)\s*)?\)\s*""",
    re.VERBOSE,
)
_EXAMPLE = "write it as name=how(column), for example revenue=sum(fare)"


class Term(NamedTuple):
    """One calculation on one column; `count()` has no column, only quantiles a share."""

    how: str
    column: str
    share: float = 0.5

    def __str__(self) -> str:
        column = f'"{self.column}"' if re.search(r'[(),"]', self.column) else self.column
        return f"{self.how}({column}, {self.share:g})" if self.how == "quantile" else (
            f"{self.how}({column})"
        )  # fmt: skip


class Plane(NamedTuple):
    """What the fold keeps per cell.

    `rows`, or of a column: `filled` (how many are not blank), `sum`, `square`, `min`,
    `max`, `first`, `last`, `values` (all of them) or `codes` (which of its values).
    """

    what: str
    column: str = ""


_KEPT = {
    "count": ("filled",), "sum": ("sum",), "mean": ("sum", "filled"), "min": ("min",),
    "max": ("max",), "first": ("first",), "last": ("last",), "distinct": ("codes",),
    "std": ("sum", "square", "filled"), "var": ("sum", "square", "filled"),
    "median": ("values",), "quantile": ("values",),
}  # fmt: skip


@dataclass(frozen=True)
class Measure:
    """A named calculation: one term, or the ratio of two.

    >>> Measure.parse("revenue=sum(fare)")
    Measure('revenue=sum(fare)')
    >>> Measure.parse("each=sum(fare)/sum(passengers)").under
    Term(how='sum', column='passengers', share=0.5)
    >>> Measure.parse("high=quantile(fare, 0.9)").term.share
    0.9
    """

    name: str
    term: Term
    under: Term | None = None

    @classmethod
    def parse(cls, text: str) -> Measure:
        """Return the measure written as `name=how(column)` or `name=how(a)/how(b)`.

        A column whose name holds brackets or commas stands in double quotes.
        """
        if not isinstance(text, str):
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        name, equals, body = text.partition("=")
        name = name.strip()
        if not equals or not name or not name.isprintable():
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        first = _TERM.match(body)
        if not first:
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        rest = body[first.end() :]
        if not rest:
            return cls(name, _term(first, text))
        second = _TERM.fullmatch(rest[1:]) if rest.startswith("/") else None
        if not second:
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        return cls(name, _term(first, text), _term(second, text))

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
        if self.under or self.term.how not in ("sum", "count"):
            return None
        return next(iter(self.planes))

    @property
    def formula(self) -> str:
        """The calculation without the name."""
        return "/".join(map(str, self.terms))

    def __repr__(self) -> str:
        return f"Measure('{self.name}={self.formula}')"


def _term(found: re.Match[str], whole: str) -> Term:
    how, share = found["how"], found["share"]
    column = found["quoted"] if found["quoted"] is not None else found["plain"].strip()
    if how not in HOWS:
        raise MeasureError(unknown(f"calculation in {whole!r},", how, HOWS))
    if not column and how != "count":
        raise MeasureError(f"{whole!r} names no column; {_EXAMPLE}")
    if (how == "quantile") != (share is not None):
        raise MeasureError(f"{whole!r}: a quantile, and only that, takes a share: quantile(x, 0.9)")
    if share is None:
        return Term(how, column)
    try:
        number = float(share)
    except ValueError:
        number = -1.0
    if not 0 <= number <= 1:
        raise MeasureError(f"{whole!r}: the share {share!r} must be a number from 0 to 1")
    return Term(how, column, number)


def _planes(term: Term) -> set[Plane]:
    if term.how == "count" and not term.column:
        return {Plane("rows")}
    return {Plane(what, term.column) for what in _KEPT[term.how]}


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
