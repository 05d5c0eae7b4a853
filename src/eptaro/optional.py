"""Optional packages, imported only where they are needed."""

from __future__ import annotations

from importlib import import_module
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
