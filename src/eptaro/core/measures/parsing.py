"""The way from the text of a term to the term."""

from __future__ import annotations

import re

from eptaro.core.measures.calculation import Calculation
from eptaro.core.measures.catalogue import calculation
from eptaro.core.measures.term import GRAINS, Term
from eptaro.errors import MeasureError, unknown

EXAMPLE = "write it as name=how(column), for example revenue=sum(fare)"


def parse_term(text: str, whole: str) -> tuple[Term, str]:
    """Return the term that a text begins with, and the rest of the text."""
    found = re.match(r"\s*(\w+)\s*\(", text)
    stop = _closing(text, found.end()) if found else -1
    if found is None or stop < 0:
        raise MeasureError(f"{whole!r} is not a measure; {EXAMPLE}")
    how, body = found[1], text[found.end() : stop]
    found_how = calculation(how, f"calculation in {whole!r},")
    body, share = _share(body, found_how, whole)
    staged = re.fullmatch(r"\s*(\w+\s*\(.*\))\s+per\s+([a-z ]+?)\s*", body, re.DOTALL)
    if staged:
        return _staged(how, share, staged[1], staged[2], whole), text[stop + 1 :]
    column = body.strip()
    if len(column) > 1 and column[0] == column[-1] == '"':
        column = column[1:-1]
    elif re.search(r'[(),"]', column):
        raise MeasureError(f"{whole!r} is not a measure; {EXAMPLE}")
    if not column and found_how.needs_column:
        raise MeasureError(f"{whole!r} names no column; {EXAMPLE}")
    return Term(how, column, share), text[stop + 1 :]


def _staged(how: str, share: float, inner: str, grain: str, whole: str) -> Term:
    """Return a term on the totals of a finer grain."""
    if grain not in GRAINS:
        raise MeasureError(unknown(f"grain in {whole!r},", grain, GRAINS))
    term, rest = parse_term(inner, whole)
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


def _share(body: str, how: Calculation, whole: str) -> tuple[str, float]:
    """Return the body without its share, and the share; only quantiles have one."""
    found = re.fullmatch(r'(.*[^,]),\s*([^,()"]*?)\s*', body, re.DOTALL)
    if not how.takes_share:
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
