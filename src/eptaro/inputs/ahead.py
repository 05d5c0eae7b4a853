"""Reading ahead: the next batch is read while the last one is folded."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from queue import Full, Queue
from threading import Event, Thread
from typing import TypeVar

Item = TypeVar("Item")
_PATIENCE = 1.0  # seconds that an unwanted reader is waited for
_POLL = 0.1  # seconds between looks whether the reader is still wanted


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
    queue: Queue[tuple[str, object]] = Queue(maxsize=1)
    unwanted = Event()

    def put(kind: str, item: object) -> None:
        while not unwanted.is_set():
            try:
                queue.put((kind, item), timeout=_POLL)
            except Full:  # look again whether anybody still wants it
                continue
            return

    def run() -> None:
        try:
            for item in items:
                put("item", item)
                if unwanted.is_set():
                    return
            put("end", None)
        except BaseException as error:  # raised again in the thread that asked
            put("error", error)

    thread = Thread(target=run, daemon=True)
    thread.start()
    try:
        while True:
            kind, item = queue.get()
            if kind == "end":
                return
            if kind == "error":
                assert isinstance(item, BaseException)
                raise item
            yield item  # type: ignore[misc]
    finally:
        unwanted.set()
        thread.join(_PATIENCE)
