"""The classes that a conformance test must hold."""

from __future__ import annotations

import importlib
import inspect
import pkgutil

import eptaro


def concrete_kinds(base: type) -> set[type]:
    """Return every subclass in the package that can be made, found by loading all modules."""
    for module in pkgutil.walk_packages(eptaro.__path__, "eptaro."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    found: set[type] = set()
    left = [base]
    while left:
        kind: type
        for kind in left.pop().__subclasses__():
            left.append(kind)
            if not inspect.isabstract(kind) and kind.__module__.startswith("eptaro."):
                found.add(kind)
    return found
