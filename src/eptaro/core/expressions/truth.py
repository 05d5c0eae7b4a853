"""Three-valued logic: what is true, what is false, and what is not known (as in standard SQL)."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags

Truth: TypeAlias = tuple[NDArray[Any], Flags | None]  # what is true, and where that is known


def either(one: Truth, two: Truth) -> Truth:
    """Return where one of two conditions is true: known where one is true or both are known."""
    true = np.asarray(_known(one) | _known(two))
    if one[1] is None and two[1] is None:
        return true, None
    known = [np.ones(1, bool) if valid is None else valid for _, valid in (one, two)]
    return true, np.asarray(true | (known[0] & known[1]))


def _known(truth: Truth) -> NDArray[Any]:
    """Return where a condition is known to be true."""
    data, valid = truth
    return np.asarray(data if valid is None else data & valid)


def turned(truth: Truth) -> Truth:
    """Return a condition turned round; what is not known stays so."""
    data, valid = truth
    return ~data, valid


def stretched(valid: Flags | None, size: int) -> Flags | None:
    """Return flags stretched to so many rows."""
    return None if valid is None else np.broadcast_to(valid, (size,)).copy()
