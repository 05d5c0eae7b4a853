"""Work on all processors at once."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache, partial
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from concurrent.futures import ThreadPoolExecutor

Item = TypeVar("Item")
_LEAST_SLICE, _MOST_SLICE = 1 << 17, 1 << 22  # rows
_AT_ONCE = 1 << 15  # rows: their places stay in the processor's cache
WORKERS = os.cpu_count() or 1
_DEPTH = 4  # levels of works within works that find a thread for each processor
_in_turn: ContextVar[bool] = ContextVar("in_turn", default=False)


@contextmanager
def run_serially() -> Iterator[None]:
    """Do one thing after the other, where one processor is all there is."""
    token = _in_turn.set(True)
    try:
        yield
    finally:
        _in_turn.reset(token)


def is_in_turn() -> bool:
    """Return whether one thing is to be done after the other."""
    return _in_turn.get()


def run_parallel(works: Sequence[Callable[[], Item]]) -> list[Item]:
    """Return the result of several works, done side by side; the error of the first is raised.

    The caller does its share, and does all of it where every processor is busy, so that a work may
    have works of its own.

    >>> run_parallel([lambda: 5, lambda: 6])
    [5, 6]
    """
    if _in_turn.get() or min(len(works), WORKERS) < 2:
        return [work() for work in works]
    numbers = iter(range(len(works)))  # whoever is free takes the next
    results: dict[int, Item] = {}
    errors: dict[int, BaseException] = {}

    def do_some() -> None:
        for number in numbers:
            try:
                results[number] = works[number]()
            except BaseException as error:  # it is raised by the caller
                errors[number] = error
                _drop(numbers)

    helpers = [_pool().submit(do_some) for _ in range(min(len(works), WORKERS) - 1)]
    try:
        do_some()
    finally:
        _drop(numbers)
        for helper in helpers:
            if not helper.cancel():
                helper.result()
    if errors:
        raise errors[min(errors)]
    return [results[number] for number in range(len(works))]


def _drop(rest: Iterator[int]) -> None:
    for _ in rest:
        pass


@cache
def _pool() -> ThreadPoolExecutor:
    """Return the threads that help. They are kept, since starting one takes as long as folding
    100,000 rows, and there are enough of them for works within works.
    """
    from concurrent.futures import ThreadPoolExecutor  # it brings logging: not at the start

    if hasattr(os, "register_at_fork"):
        os.register_at_fork(after_in_child=_pool.cache_clear)  # a child has none of the threads
    return ThreadPoolExecutor(_DEPTH * WORKERS, thread_name_prefix="at-once")


def slices(rows: int) -> list[slice]:
    """Return slices of all rows, as many as can be worked on side by side, none of them large."""
    return _slices(rows, max(min(WORKERS, rows // _LEAST_SLICE), rows // _MOST_SLICE))


def chunks(rows: int, most: int) -> list[slice]:
    """Return slices of all rows: one for each processor where rows are many, at most so many."""
    return _slices(rows, min(WORKERS, rows // _LEAST_SLICE, most))


def _slices(rows: int, count: int) -> list[slice]:
    count = max(count, 1)
    return [slice(rows * n // count, rows * (n + 1) // count) for n in range(count)]


def as_contiguous(column: NDArray[Any]) -> NDArray[Any]:
    """Return a column of some array as an array of its own.

    `column` may be `(n,)` with any stride.
    """
    if column.flags.c_contiguous:
        return column
    copied = np.empty(len(column), column.dtype)
    parallel_for(lambda of: np.copyto(copied[of], column[of]), len(column))
    return copied


def gather(values: NDArray[Any], places: Any, first: int = 0) -> NDArray[Any]:
    """Return the values at some places, counted from the `first`.

    `values` is `(n_values,)`; `places`, `(n,)`, may be all that indexes an array, and whole numbers
    of any type need not be cast before.

    >>> gather(np.array([5, 6, 7]), np.array([2, 0], np.int32)).tolist()
    [7, 5]
    >>> gather(np.array([5, 6, 7]), np.array([1902, 1900]), 1900).tolist()
    [7, 5]
    """
    plain = isinstance(places, np.ndarray) and places.dtype.kind in "iu" and places.ndim == 1
    if not plain or values.dtype == object or len(places) < 2 * _LEAST_SLICE:
        return np.asarray(values[places - first if first else places])
    gathered = np.empty(len(places), values.dtype)

    def some(of: slice) -> None:
        for start in range(of.start, of.stop, _AT_ONCE):
            part = slice(start, min(start + _AT_ONCE, of.stop))
            np.take(values, places[part] - first if first else places[part], out=gathered[part])

    parallel_for(some, len(places))
    return gathered


def repeat(values: NDArray[Any], each: int) -> NDArray[Any]:
    """Return each value several times, one after the other.

    `values` is `(n,)`, the result `(n * each,)`.

    >>> repeat(np.array([5, 6]), 2).tolist()
    [5, 5, 6, 6]
    """
    if values.dtype == object or len(values) * each < 2 * _LEAST_SLICE:
        return np.repeat(values, each)
    repeated = np.empty((len(values), each), values.dtype)

    def some(of: slice) -> None:
        repeated[of] = values[of, None]

    parallel_for(some, len(values), each=each)
    return repeated.ravel()


def tile(values: NDArray[Any], times: int) -> NDArray[Any]:
    """Return all values several times, one time after the other.

    `values` is `(n,)`, the result `(times * n,)`.

    >>> tile(np.array([5, 6]), 2).tolist()
    [5, 6, 5, 6]
    """
    tiled = np.empty((times, len(values)), values.dtype)
    parallel_for(lambda of: np.copyto(tiled[of], values), times, each=len(values))
    return tiled.ravel()


def parallel_for(work: Callable[[slice], None], rows: int, *, each: int = 1) -> None:
    """Do some work on slices of all rows side by side; a row may be as much work as several."""
    if rows * each < 2 * _LEAST_SLICE:
        return work(slice(0, rows))
    many = slices(rows * each)
    run_parallel([partial(work, of) for of in (many if each == 1 else _slices(rows, len(many)))])
    return None
