"""The choice between the compiled loops and NumPy.

Each operation of this room has a few lines of NumPy beside its loops; answers do not depend on
which run.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from eptaro.core.kernels.compiled import ASKED, LOOPS, check_built


def _find_loops() -> Any:
    """Return the module of compiled loops, None where they do not run."""
    if ASKED == "numpy":
        return None
    try:
        return import_module(LOOPS)
    except ModuleNotFoundError:
        check_built()
        return None
    except ImportError as error:  # of another Python
        check_built(str(error))
        return None


loops = _find_loops()
KERNEL = "numpy" if loops is None else "compiled"
