"""Which loops run: those compiled from `compiled/`, or their twins in NumPy.

`EPTARO_KERNEL=numpy` chooses the twins, `EPTARO_KERNEL=compiled` insists on the others; unset,
the compiled ones run where they were built. Answers do not depend on it.
"""

from __future__ import annotations

import os
from importlib import import_module
from typing import TYPE_CHECKING, Any, Literal

_asked = os.environ.get("EPTARO_KERNEL", "")
if _asked not in ("", "compiled", "numpy"):
    raise ImportError(f"EPTARO_KERNEL={_asked!r} must be numpy or compiled")

_PARTS = (
    *("coding", "direct", "extremes", "folding", "gathering", "keeping", "marking", "numbers"),
    *("order", "parting", "sliding", "stamps"),
)


def _loaded(kind: str) -> list[Any]:
    return [import_module(f"eptaro.core.kernels.{kind}.{part}") for part in _PARTS]


def _chosen() -> tuple[Literal["compiled", "numpy"], list[Any]]:
    """Return which loops run, and their modules; those that do not run are not loaded."""
    if _asked == "numpy":
        return "numpy", _loaded("twins")
    try:
        return "compiled", _loaded("compiled")
    except ImportError as error:  # it was not built
        if _asked:
            raise ImportError(
                f"EPTARO_KERNEL=compiled, but that kernel was not built ({error}); install Eptaro "
                f"where there is a C compiler, or leave the variable unset"
            ) from None
        return "numpy", _loaded("twins")


KERNEL, _modules = _chosen()
if TYPE_CHECKING:
    from eptaro.core.kernels.twins import (
        coding,
        direct,
        extremes,
        folding,
        gathering,
        keeping,
        marking,
        numbers,
        order,
        parting,
        sliding,
        stamps,
    )
else:
    coding, direct, extremes, folding, gathering, keeping, marking, numbers = _modules[:8]
    order, parting, sliding, stamps = _modules[8:]

fold = folding.fold
distinct, places, stable_order = order.distinct, order.places, order.stable_order
mark, numbered = marking.mark, marking.numbered
mark_pairs, number_pairs = marking.mark_pairs, marking.number_pairs
distinct_in, neighbours = direct.distinct, direct.neighbours
keep, kept_places = keeping.keep, keeping.kept_places
window_extremes = extremes.window_extremes
window_distinct, window_neighbours = sliding.window_distinct, sliding.window_neighbours
code, split = coding.code, stamps.split
extent, narrow, units = numbers.extent, numbers.narrow, numbers.units
bounds, between = gathering.bounds, gathering.between
bounds_of_all = gathering.bounds_of_all
between_floats, scatter = gathering.between_floats, gathering.scatter
counted, dealt, settled = parting.counted, parting.dealt, parting.settled
runs, merged = parting.runs, parting.merged
