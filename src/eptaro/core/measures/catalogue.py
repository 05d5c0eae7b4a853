"""The catalogue of calculations: one table, from the name in a measure to what it means."""

from __future__ import annotations

from collections.abc import Mapping

from eptaro.core.folds.planes import ROWS, Plane
from eptaro.core.measures.adding import Adding, Averaging, Counting
from eptaro.core.measures.calculation import Calculation
from eptaro.core.measures.ordering import Distinct, Median, New, Quantile
from eptaro.core.measures.picking import First, Largest, Last, Least
from eptaro.core.measures.term import Term
from eptaro.core.measures.varying import Deviation, Variance
from eptaro.errors import MeasureError, unknown

CATALOGUE: Mapping[str, Calculation] = {
    one.name: one
    for one in (
        *(Adding(), Counting(), Averaging(), Least(), Largest(), First(), Last()),
        *(Distinct(), New(), Deviation(), Variance(), Median(), Quantile()),
    )
}


def calculation(how: str, where: str = "calculation") -> Calculation:
    """Return the calculation of a name; raises `MeasureError` for one that there is not.

    >>> calculation("mean").kept
    ('sum', 'filled')
    """
    if how not in CATALOGUE:
        raise MeasureError(unknown(where, how, CATALOGUE))
    return CATALOGUE[how]


def planes_of(term: Term) -> set[Plane]:
    """Return what the fold must keep for a term.

    >>> planes_of(Term("max", "", inner=Term("sum", "fare"), grain="day")) == {
    ...     Plane("sum", "fare"), Plane("filled", "fare"), ROWS}
    True
    """
    if term.inner is not None:
        return planes_of(term.inner) | {ROWS}
    found = calculation(term.how)
    planes = found.planes(term.column)
    if found.counts_rows:
        planes |= {ROWS if term.met is None else Plane("filled", term.met.name)}
    return planes
