"""The functions of the public face whose results are tables; each is loaded when it is used."""

from __future__ import annotations

from functools import wraps
from importlib import import_module
from typing import TYPE_CHECKING, Any

from eptaro.table import Table, returns_table

if TYPE_CHECKING:
    from eptaro.core.dimension.build import dimension as _dimension
    from eptaro.engines.inspect import inspect as _inspect
    from eptaro.engines.trail_values import trail_values as _trail_values

    dimension = returns_table(_dimension)
    inspect = returns_table(_inspect)
    trail_values = returns_table(_trail_values)


def _dimension_with_locale() -> Any:
    from eptaro.core.dimension.build import dimension as days
    from eptaro.inputs.locales import locale_names

    @wraps(days)
    def dimension(*args: Any, locale: str = "en", **options: Any) -> Table:
        return Table.of(days(*args, locale=locale_names(locale), **options))

    return dimension


def __getattr__(name: str) -> Any:
    if name == "dimension":
        return _dimension_with_locale()
    if name not in ("inspect", "trail_values"):
        raise AttributeError(f"module 'eptaro.functions' has no attribute {name!r}")
    return returns_table(getattr(import_module(f"eptaro.engines.{name}"), name))
