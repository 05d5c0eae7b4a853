"""Optional packages, imported only where they are needed."""

from __future__ import annotations

import sys
import warnings
from importlib import import_module
from types import ModuleType
from typing import Any

from eptaro.errors import InputError


def import_optional(module: str, extra: str, purpose: str) -> Any:
    """Return an imported module, or raise `InputError` saying which extra brings it."""
    try:
        return import_module(module)
    except ImportError as error:
        package = (error.name or module).split(".")[0]
        raise InputError(
            f"{purpose} needs the package {package}; install it with: pip install 'eptaro[{extra}]'"
        ) from None


def leave_pandas_out() -> None:
    """Have pyarrow do without pandas in this process.

    At its first conversion pyarrow imports pandas to see whether it is there, which takes longer
    than a command's whole work on small data, and keeps to what it found. It passes over a
    pandas too old for it, so that is what it is shown.
    """
    if "pandas" in sys.modules:
        return
    old = ModuleType("pandas")
    old.__version__ = "0.0.0"  # type: ignore[attr-defined]
    sys.modules["pandas"] = old
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            import pyarrow as pa

            pa.scalar(0)
    finally:
        del sys.modules["pandas"]
