"""Work done beside the main thread, which stays free to be stopped by the user."""

from __future__ import annotations

from collections.abc import Callable
from threading import Thread
from typing import Generic, TypeVar

Outcome = TypeVar("Outcome")


_POLL = 0.2  # seconds after which a waiting thread looks whether it was interrupted


class BackgroundTask(Generic[Outcome]):
    """A call that runs in a thread of its own; the process may end before the call does.

    >>> BackgroundTask(sum, [1, 2]).result()
    3
    """

    def __init__(self, work: Callable[..., Outcome], *arguments: object) -> None:
        self._found: list[Outcome] = []
        self._error: BaseException | None = None
        self._thread = Thread(target=self._run, args=(work, arguments), daemon=True)
        self._thread.start()

    def _run(self, work: Callable[..., Outcome], arguments: tuple[object, ...]) -> None:
        try:
            self._found.append(work(*arguments))
        except BaseException as error:  # raised again where the result is asked for
            self._error = error

    def done(self, wait: float = 0.0) -> bool:
        """Return whether the call has ended, after some seconds at most."""
        self._thread.join(wait)
        return not self._thread.is_alive()

    def result(self) -> Outcome:
        """Wait for the call to end and return what it did, or raise what it raised."""
        while not self.done(_POLL):
            pass
        if self._error is not None:
            raise self._error
        return self._found[0]
