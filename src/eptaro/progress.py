"""Telling whoever watches how far long work has come."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Watcher = Callable[[int, float | None], None]


_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)


@contextmanager
def watched(watcher: Watcher) -> Iterator[None]:
    """Have `watcher` told of rows done and the share of the work (None: unknown)."""
    token = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(token)


def tell(rows: int, share: float | None) -> None:
    """Tell the watcher, if there is one."""
    watcher = _watcher.get()
    if watcher is not None:
        watcher(rows, share)
