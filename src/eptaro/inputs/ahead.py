"""Work side by side: the next batch is read while the last one is folded, columns at once."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    from concurrent.futures import Future

Item = TypeVar("Item")
_END = object()
_in_turn: ContextVar[bool] = ContextVar("in_turn", default=False)


@contextmanager
def in_turn() -> Iterator[None]:
    """Read and fold in turn rather than at once, where one processor is all there is."""
    token = _in_turn.set(True)
    try:
        yield
    finally:
        _in_turn.reset(token)


def ahead(items: Iterator[Item]) -> Iterator[Item]:
    """Yield the items of an iterator that runs in a thread, one item ahead.

    An error of the iterator is raised where its item would have come.
    """
    if _in_turn.get():
        yield from items
        return
    from concurrent.futures import ThreadPoolExecutor  # it brings logging: not at the start

    worker = ThreadPoolExecutor(1, thread_name_prefix="ahead")
    coming: Future[Any] = worker.submit(next, items, _END)
    try:
        while (item := coming.result()) is not _END:
            coming = worker.submit(next, items, _END)
            yield item
    finally:
        worker.shutdown(wait=False, cancel_futures=True)


def at_once(works: Sequence[Callable[[], Item]]) -> list[Item]:
    """Return what several works come to, done side by side; the error of the first is raised."""
    if _in_turn.get() or len(works) < 2:
        return [work() for work in works]
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(os.cpu_count(), thread_name_prefix="at-once") as pool:
        return [*pool.map(lambda work: work(), works)]
