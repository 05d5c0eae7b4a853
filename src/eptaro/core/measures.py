"""Measures: named calculations on transaction columns, written `name=how(column)`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from eptaro.core.errors import MeasureError, unknown

HOWS = (
    *("sum", "count", "mean", "min", "max", "first", "last"),
    *("distinct", "std", "var", "median", "quantile"),
)
GRAINS = ("day", "workday", "active day", "week", "month", "quarter", "half", "year")

_EXAMPLE = "write it as name=how(column), for example revenue=sum(fare)"


class Term(NamedTuple):
    """One calculation: on a column, or on the totals (`inner`) of a finer `grain`.

    `count()` has no column, only quantiles a share.
    """

    how: str
    column: str
    share: float = 0.5
    inner: Term | None = None
    grain: str = ""

    def __str__(self) -> str:
        body = f'"{self.column}"' if re.search(r'[(),"]', self.column) else self.column
        if self.inner is not None:
            body = f"{self.inner} per {self.grain}"
        share = f", {self.share:g}" if self.how == "quantile" else ""
        return f"{self.how}({body}{share})"


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
    Term(how='sum', column='passengers', share=0.5, inner=None, grain='')
    >>> Measure.parse("high=quantile(fare, 0.9)").term.share
    0.9
    """

    name: str
    term: Term
    under: Term | None = None

    @classmethod
    def parse(cls, text: str) -> Measure:
        """Return the measure written as `name=how(column)` or `name=how(a)/how(b)`.

        A column whose name holds brackets or commas stands in double quotes. A term may
        work on totals of a finer grain: `busiest=max(sum(fare) per day)`; the grain is
        day, workday, active day or a level.
        """
        if not isinstance(text, str):
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        name, equals, body = text.partition("=")
        name = name.strip()
        if not equals or not name or not name.isprintable():
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        term, rest = _parse_term(body, text)
        if not rest.strip():
            return cls(name, term)
        if not rest.lstrip().startswith("/"):
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        under, rest = _parse_term(rest.lstrip()[1:], text)
        if rest.strip():
            raise MeasureError(f"{text!r} is not a measure; {_EXAMPLE}")
        return cls(name, term, under)

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
        if self.under or self.term.inner or self.term.how not in ("sum", "count"):
            return None
        return next(iter(self.planes))

    @property
    def formula(self) -> str:
        """The calculation without the name."""
        return "/".join(map(str, self.terms))

    def __repr__(self) -> str:
        return f"Measure('{self.name}={self.formula}')"


def _parse_term(text: str, whole: str) -> tuple[Term, str]:
    """Return the term that a text begins with, and the rest of the text."""
    found = re.match(r"\s*(\w+)\s*\(", text)
    stop = _closing(text, found.end()) if found else -1
    if found is None or stop < 0:
        raise MeasureError(f"{whole!r} is not a measure; {_EXAMPLE}")
    how, body = found[1], text[found.end() : stop]
    if how not in HOWS:
        raise MeasureError(unknown(f"calculation in {whole!r},", how, HOWS))
    body, share = _share(body, how, whole)
    staged = re.fullmatch(r"\s*(\w+\s*\(.*\))\s+per\s+([a-z ]+?)\s*", body, re.DOTALL)
    if staged:
        return _staged(how, share, staged[1], staged[2], whole), text[stop + 1 :]
    column = body.strip()
    if len(column) > 1 and column[0] == column[-1] == '"':
        column = column[1:-1]
    elif re.search(r'[(),"]', column):
        raise MeasureError(f"{whole!r} is not a measure; {_EXAMPLE}")
    if not column and how != "count":
        raise MeasureError(f"{whole!r} names no column; {_EXAMPLE}")
    return Term(how, column, share), text[stop + 1 :]


def _staged(how: str, share: float, inner: str, grain: str, whole: str) -> Term:
    """Return a term on the totals of a finer grain."""
    if grain not in GRAINS:
        raise MeasureError(unknown(f"grain in {whole!r},", grain, GRAINS))
    term, rest = _parse_term(inner, whole)
    if rest.strip() or term.inner is not None:
        raise MeasureError(f"{whole!r}: a grain holds one plain calculation, as sum(fare) per day")
    return Term(how, term.column, share, term, grain)


def _closing(text: str, start: int) -> int:
    """Return the place of the bracket that closes the one before `start`, or -1."""
    depth, quoted = 1, False
    for place in range(start, len(text)):
        letter = text[place]
        if letter == '"':
            quoted = not quoted
        elif not quoted:
            depth += {"(": 1, ")": -1}.get(letter, 0)
            if not depth:
                return place
    return -1


def _share(body: str, how: str, whole: str) -> tuple[str, float]:
    """Return the body without its share, and the share; only quantiles have one."""
    found = re.fullmatch(r'(.*[^,]),\s*([^,()"]*?)\s*', body, re.DOTALL)
    if how != "quantile":
        if found and not body.strip().startswith('"'):
            raise MeasureError(f"{whole!r}: only a quantile takes a share: quantile(x, 0.9)")
        return body, 0.5
    try:
        number = float(found[2]) if found else -1.0
    except ValueError:
        number = -1.0
    if found is None or not 0 <= number <= 1:
        raise MeasureError(f"{whole!r}: a quantile takes a share from 0 to 1: quantile(x, 0.9)")
    return found[1], number


def _planes(term: Term) -> set[Plane]:
    if term.inner is not None:
        return _planes(term.inner) | {Plane("rows")}
    if term.how == "count" and not term.column:
        return {Plane("rows")}
    return {Plane(what, term.column) for what in _KEPT[term.how]}


def parse_measures(specs: str | Iterable[str | Measure]) -> tuple[Measure, ...]:
    """Return the measures, which must bear different names; a mapping goes from name to body."""
    if isinstance(specs, Mapping):
        specs = [f"{name}={body}" for name, body in specs.items()]
    if not isinstance(specs, str | Measure | Iterable):
        raise MeasureError(f"{specs!r} is not a measure; {_EXAMPLE}")
    given = [specs] if isinstance(specs, str | Measure) else list(specs)
    measures = tuple(s if isinstance(s, Measure) else Measure.parse(s) for s in given)
    if not measures:
        raise MeasureError(f"no measure is given; {_EXAMPLE}")
    names = [measure.name for measure in measures]
    for name in names:
        if names.count(name) > 1:
            raise MeasureError(f"two measures are called {name!r}; give each its own name")
    return measures
