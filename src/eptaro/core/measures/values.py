"""A measure's term over ranges of cells."""

from __future__ import annotations

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.picks import Pick
from eptaro.core.folds.planes import Plane
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.kernels import ranges
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column


def evaluate(cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
    """Return the term over each half-open range lo..hi of cells.

    Sums and counts of nothing are 0; everything else is blank over nothing, std and var
    over a single value too.
    """
    column = term.column
    match term.how:
        case "count":
            return cells.sums(Plane("filled", column) if column else Plane("rows"), lo, hi)
        case "sum":
            return cells.sums(Plane("sum", column), lo, hi)
        case "mean":
            total = cells.sums(Plane("sum", column), lo, hi)
            return ratio(total, cells.sums(Plane("filled", column), lo, hi))
        case "std" | "var":
            return variance_column(term.how, *cells.squares(column, lo, hi), lo, hi)
        case "distinct":
            tally, first, last = cells.items(Plane("codes", column), lo, hi)
            return Column.of("", "integer", ranges.distinct(tally.value, first, last))
        case "median" | "quantile":
            tally, first, last = cells.items(Plane("values", column), lo, hi)
            share = 0.5 if term.how == "median" else term.share
            found = ranges.quantile(tally.value, first, last, share) / 10.0**tally.scale
            return Column.of("", "float", found, (last > first) & ~np.isnan(found))
        case _:
            return _picked(cells, term, lo, hi)


def variance_column(
    how: str, squares: Squares, sums: Sum, counts: Ints, lo: Ints, hi: Ints
) -> Column:
    """Return variance or its root over ranges of prefix sums, blank for fewer than two values."""
    found = squares.variance(sums, counts, lo, hi, root=how == "std")
    return Column.of("", "float", found, (counts > 1) & np.isfinite(found))


def _picked(cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
    tally, first, last = cells.items(Plane(term.how, term.column), lo, hi)
    filled = last > first
    if term.how in ("min", "max"):
        values = ranges.extremes(tally.value, first, last, largest=term.how == "max")
    else:
        place = np.where(filled, first if term.how == "first" else last - 1, 0)
        values = tally.value[place] if len(tally.value) else np.zeros(len(lo), np.int64)
        if isinstance(tally, Pick) and tally.shared is not None and len(tally.shared):
            filled &= ~tally.shared[place]  # only the order of the input would decide
    return Column.of("", tally.kind, values, filled, scale=tally.scale)


def ratio(over: Column, under: Column) -> Column:
    """Return the quotient as floats, blank where the divisor is zero, either is blank, or it is
    beyond the floats.
    """
    top, bottom = over.numbers(), under.numbers()
    valid = ~(np.isnan(top) | np.isnan(bottom)) & (bottom != 0)
    with np.errstate(invalid="ignore", over="ignore"):
        quotient = np.divide(top, bottom, out=np.zeros(len(top)), where=valid)
    wide = object in (over.data.dtype, under.data.dtype)
    beyond = np.flatnonzero(valid & (np.isinf(top) | np.isinf(bottom)))
    for at in beyond.tolist() if wide else ():
        quotient[at] = _quotient(over, under, at)
        valid[at] = np.isfinite(quotient[at])
    return Column.of("", "float", quotient, valid)


def _quotient(over: Column, under: Column, place: int) -> float:
    try:
        return float(over.fraction(place) / under.fraction(place))
    except OverflowError:  # infinite already, or beyond the floats
        return np.inf
