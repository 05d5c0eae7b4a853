"""The loops in NumPy and, where they were built, those in C."""

from __future__ import annotations

import importlib
from types import ModuleType


def both(twin: ModuleType, name: str) -> list[ModuleType]:
    """Return the module of the twins, and the compiled one of the name if there is one."""
    try:
        return [twin, importlib.import_module(f"eptaro.core.kernels.compiled.{name}")]
    except ImportError:
        return [twin]
