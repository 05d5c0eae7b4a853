"""The quotient of two columns."""

from __future__ import annotations

import numpy as np

from eptaro.core.tables.column import Column


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
    valid &= np.isfinite(quotient)
    return Column.of("", "float", quotient, valid)


def _quotient(over: Column, under: Column, place: int) -> float:
    try:
        return float(over.fraction(place) / under.fraction(place))
    except OverflowError:  # infinite already, or beyond the floats
        return np.inf
