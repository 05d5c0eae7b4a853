"""Progress of long work, and the log."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Watcher = Callable[[int, float | None], None]


_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)


@contextmanager
def watch(watcher: Watcher) -> Iterator[None]:
    """Inform `watcher` of rows done and the share of the work (None: unknown)."""
    token = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(token)


def report_progress(rows: int, share: float | None) -> None:
    """Report to the watcher, if there is one."""
    watcher = _watcher.get()
    if watcher is not None:
        watcher(rows, share)


LOGGER = "eptaro"  # the name of the logger


def log(message: str, *values: object) -> None:
    """Write to the log, at its level DEBUG.

    Where nobody has imported `logging` nobody can have asked for it, and it is not loaded either.
    """
    logging = sys.modules.get("logging")
    if logging is not None:
        logging.getLogger(LOGGER).debug(message, *values)


@contextmanager
def log_time(step: str) -> Iterator[None]:
    """Write to the log how long a step took."""
    start = time.perf_counter()
    yield
    log("%s: %.3f s", step, time.perf_counter() - start)
