"""The next batch is read while the last one is folded."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, TypeVar

from eptaro.core.kernels.sidebyside import is_in_turn

if TYPE_CHECKING:
    from concurrent.futures import Future

Item = TypeVar("Item")
_END = object()


def ahead(items: Iterator[Item]) -> Iterator[Item]:
    """Yield the items of an iterator that runs in a thread, one item ahead.

    An error of the iterator is raised where its item would have come.
    """
    if is_in_turn():
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
