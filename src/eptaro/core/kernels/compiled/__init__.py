"""Loops in C, built where a compiler is found; and whether they are used.

`EPTARO_KERNEL=numpy` does not use them, `EPTARO_KERNEL=compiled` insists on them; unset, they run
where they were built.
"""

import os
from typing import Literal

from eptaro.errors import KernelError

LOOPS = "eptaro.core.kernels.compiled.loops"
ASKED = os.environ.get("EPTARO_KERNEL", "")
if ASKED not in ("", "compiled", "numpy"):
    raise KernelError(f"EPTARO_KERNEL={ASKED!r} must be numpy or compiled")


def choose_kernel() -> Literal["compiled", "numpy"]:
    """Return which loops are to run, without loading them."""
    from importlib.util import find_spec  # whoever runs the loops imports them instead

    if ASKED == "numpy" or find_spec(LOOPS) is None:
        check_built()
        return "numpy"
    return "compiled"


def check_built(reason: str = "there is none") -> None:
    """Raise `KernelError` where compiled loops are insisted on, and were not built."""
    if ASKED == "compiled":
        raise KernelError(
            f"EPTARO_KERNEL=compiled, but that kernel was not built ({reason}); install Eptaro "
            f"where there is a C compiler, or leave the variable unset"
        )
