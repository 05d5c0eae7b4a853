"""Where the outer layers hang what `core` must not import.

`core` knows that a `Table` can be written and that a `Daybook` can be read, but not how:
`eptaro.wiring` provides the doers when the package is imported.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_provided: dict[str, Callable[..., Any]] = {}


def provide(**doers: Callable[..., Any]) -> None:
    """Hang up one doer per name."""
    _provided.update(doers)


def call(name: str, *args: Any, **options: Any) -> Any:
    """Do what hangs under a name."""
    if name not in _provided:
        raise RuntimeError(f"nothing provides {name!r}; import eptaro rather than eptaro.core")
    return _provided[name](*args, **options)
