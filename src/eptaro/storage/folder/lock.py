"""One writer at a time in a book's folder on this machine."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from eptaro.errors import InputError
from eptaro.places import Place

LOCK = ".writing"


@contextmanager
def writing(folder: Place) -> Iterator[None]:
    """Be the only one that changes a folder; the system lets go of it however the process ends.

    In an object store nobody is kept out: there the manifest is looked at once more before another
    is put in its place. Raises `InputError` where somebody else is writing.
    """
    local = folder.local
    if local is None:
        yield
        return
    with folder.told("written"):
        local.mkdir(parents=True, exist_ok=True)
        handle = os.open(local / LOCK, os.O_RDWR | os.O_CREAT, 0o666)
    try:
        try:
            _lock(handle)
        except OSError:
            raise InputError(
                f"{folder}: somebody else is changing this book; try again when that is done"
            ) from None
        yield
    finally:
        os.close(handle)


def _lock(handle: int) -> None:
    try:
        import fcntl
    except ImportError:  # Windows
        import msvcrt

        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        return
    fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
