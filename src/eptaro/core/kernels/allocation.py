"""Allocation of arrays: in memory, or in a file where their inputs are in one.

A file has no name and is gone with the last array that uses it, however the process ends.
"""

from __future__ import annotations

import mmap
import os
from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from eptaro.errors import InputError

Array = NDArray[Any]


def is_on_disk(array: Array) -> bool:
    """Return whether an array of any shape lies in a file."""
    base: Any = array
    while isinstance(base, np.ndarray | memoryview):
        base = base.base if isinstance(base, np.ndarray) else base.obj
    return isinstance(base, mmap.mmap)


def on_disk(array: Array) -> Array:
    """Return an array put into a file; one of Python objects stays in memory.

    The array is `(n,)`.

    >>> array = on_disk(np.array([3, 4]))
    >>> is_on_disk(array), array.tolist()
    (True, [3, 4])
    """
    if array.dtype == object or not array.size or is_on_disk(array):
        return array
    stored = _in_file(array.size, array.dtype)
    stored[:] = array
    return stored


def allocate(size: int, dtype: DTypeLike, *made_of: Array | None) -> Array:
    """Return an array of zeros, in a file where one that it is made of lies in a file."""
    if size and any(part is not None and is_on_disk(part) for part in made_of):
        return _in_file(size, np.dtype(dtype))
    return np.zeros(size, dtype)


def spill(array: Array, *made_of: Array | None) -> Array:
    """Return an array, put into a file where one that it is made of lies in a file.

    The array is `(n,)`.
    """
    return (
        on_disk(array) if any(part is not None and is_on_disk(part) for part in made_of) else array
    )


def _in_file(size: int, dtype: np.dtype[Any]) -> Array:
    import tempfile  # it brings much: not at the start

    needed = size * dtype.itemsize
    try:
        with tempfile.TemporaryFile(prefix="eptaro-") as file:
            if hasattr(os, "posix_fallocate"):  # a full disk fails now rather than later
                os.posix_fallocate(file.fileno(), 0, needed)
            else:
                file.truncate(needed)
            mapped = mmap.mmap(file.fileno(), needed)
    except OSError as error:
        raise InputError(
            f"the cells outgrow the memory that they may take, and there is no room for "
            f"{needed >> 20:,} MiB more of them in {tempfile.gettempdir()} ({error.strerror}); "
            f"group by fewer columns, or set TMPDIR to a folder with more room"
        ) from None
    return np.frombuffer(mapped, dtype)


def truncate(array: Array, size: int) -> Array:
    """Return the first so many of an array, without holding on to much room for the rest.

    The array is `(n,)` with `n >= size`.
    """
    return array[:size] if 2 * size >= len(array) else array[:size].copy()
