"""The verbs of a book in shards."""

from __future__ import annotations

from functools import partial, wraps
from typing import Any

from eptaro.core.answering import Answering


class ShardedVerb:
    """A verb that a book in a folder answers shard by shard."""

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    def __get__(self, book: Any, owner: type) -> Any:
        verb = getattr(Answering, self._name)
        return verb if book is None else wraps(verb)(partial(book._answer, self._name))
