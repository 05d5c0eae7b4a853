"""Whether the loops compiled from `compiled/` run, and where they are.

`EPTARO_KERNEL=numpy` does not use them, `EPTARO_KERNEL=compiled` insists on them; unset, they run
where they were built. Each operation of this room has a few lines of NumPy beside its loops;
answers do not depend on which run.
"""

from __future__ import annotations

import os
from importlib import import_module
from typing import Any

_asked = os.environ.get("EPTARO_KERNEL", "")
if _asked not in ("", "compiled", "numpy"):
    raise ImportError(f"EPTARO_KERNEL={_asked!r} must be numpy or compiled")


def _find_loops() -> Any:
    """Return the module of compiled loops, None where they do not run."""
    if _asked == "numpy":
        return None
    try:
        return import_module("eptaro.core.kernels.compiled.loops")
    except ImportError as error:  # they were not built
        if _asked:
            raise ImportError(
                f"EPTARO_KERNEL=compiled, but that kernel was not built ({error}); install Eptaro "
                f"where there is a C compiler, or leave the variable unset"
            ) from None
        return None


loops = _find_loops()
KERNEL = "numpy" if loops is None else "compiled"
