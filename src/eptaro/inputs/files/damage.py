"""What a damaged input makes the packages that read it raise, told as an error of ours."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Iterator
from contextlib import contextmanager

import pyarrow as pa

from eptaro.errors import EptaroError, InputError

_DAMAGES = (pa.ArrowException, OSError, UnicodeError, zlib.error, lzma.LZMAError, EOFError)


@contextmanager
def readable(name: str) -> Iterator[None]:
    """Raise `InputError` naming the input where it turns out damaged while it is read."""
    try:
        yield
    except EptaroError:
        raise
    except _DAMAGES as error:
        raise InputError(f"{name}: cannot be read: {' '.join(str(error).split())}") from None
