"""Which loops run: those compiled from `compiled/`, or their twins in NumPy.

`EPTARO_KERNEL=numpy` chooses the twins, `EPTARO_KERNEL=compiled` insists on the others; unset,
the compiled ones run where they were built. Answers do not depend on it.
"""

from __future__ import annotations

import os
from importlib import import_module
from typing import Literal

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

_COMPILED = "eptaro.core.kernels.compiled"
_asked = os.environ.get("EPTARO_KERNEL", "")
if _asked not in ("", "compiled", "numpy"):
    raise ImportError(f"EPTARO_KERNEL={_asked!r} must be numpy or compiled")

KERNEL: Literal["compiled", "numpy"] = "numpy"
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
if _asked != "numpy":
    try:
        fold = import_module(f"{_COMPILED}.folding").fold
        _order, _direct = import_module(f"{_COMPILED}.order"), import_module(f"{_COMPILED}.direct")
        distinct, places, stable_order = _order.distinct, _order.places, _order.stable_order
        _marking = import_module(f"{_COMPILED}.marking")
        mark, numbered = _marking.mark, _marking.numbered
        mark_pairs, number_pairs = _marking.mark_pairs, _marking.number_pairs
        distinct_in, neighbours = _direct.distinct, _direct.neighbours
        split = import_module(f"{_COMPILED}.stamps").split
        code = import_module(f"{_COMPILED}.coding").code
        _keeping = import_module(f"{_COMPILED}.keeping")
        keep, kept_places = _keeping.keep, _keeping.kept_places
        window_extremes = import_module(f"{_COMPILED}.extremes").window_extremes
        _sliding = import_module(f"{_COMPILED}.sliding")
        window_distinct = _sliding.window_distinct
        window_neighbours = _sliding.window_neighbours
        _numbers = import_module(f"{_COMPILED}.numbers")
        extent, narrow, units = _numbers.extent, _numbers.narrow, _numbers.units
        _gathering = import_module(f"{_COMPILED}.gathering")
        bounds, between = _gathering.bounds, _gathering.between
        bounds_of_all = _gathering.bounds_of_all
        between_floats, scatter = _gathering.between_floats, _gathering.scatter
        _parting = import_module(f"{_COMPILED}.parting")
        counted, dealt = _parting.counted, _parting.dealt
        settled, runs, merged = _parting.settled, _parting.runs, _parting.merged
        KERNEL = "compiled"
    except ImportError as error:  # it was not built: all is as above
        if _asked:
            raise ImportError(
                f"EPTARO_KERNEL=compiled, but that kernel was not built ({error}); install Eptaro "
                f"where there is a C compiler, or leave the variable unset"
            ) from None
