"""Files as they are: their damage, and the digests that distinguish them ."""

from __future__ import annotations

import hashlib
import lzma
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import EptaroError, InputError

_DAMAGES = (pa.ArrowException, OSError, UnicodeError, zlib.error, lzma.LZMAError, EOFError)


@contextmanager
def translate_errors(name: str) -> Iterator[None]:
    """Raise `InputError` naming the input where it turns out damaged while it is read."""
    try:
        yield
    except EptaroError:
        raise
    except _DAMAGES as error:
        raise InputError(f"{name}: cannot be read: {' '.join(str(error).split())}") from None


def file_digest(path: Path) -> str:
    """Return a digest of a file's size, its ends, and samples between."""
    with path.open("rb") as file:
        return digest_of(file, path.stat().st_size)


def digest_of(file: Any, size: int) -> str:
    """Return the same of a file that is open, wherever it lies."""
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    for number in range(65):
        file.seek(max(size - (1 << 16), 0) * number // 64)
        digest.update(file.read(1 << 16))
    return digest.hexdigest()


def unreadable(path: object, error: Exception) -> InputError:
    """Return the error for a file that a library could not read."""
    return InputError(f"{path}: cannot be read: {' '.join(str(error).split())}")
