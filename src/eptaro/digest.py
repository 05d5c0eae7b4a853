"""Digests, by which a file, a table or a book is known again: BLAKE2b of 16 bytes (RFC 7693)."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

try:  # where `hashlib` has it from, which loads all of OpenSSL besides
    from _blake2 import blake2b
except ImportError:
    from hashlib import blake2b

_SIZE = 16  # bytes
_SAMPLE, _SAMPLES = 1 << 16, 65  # bytes of each sample of a file, and how many there are
_REQUESTS = 16  # samples of a remote file that are asked for at a time


def start_digest(content: Any = b"") -> blake2b:
    """Return the digest of some first bytes, or of a text in UTF-8; its `update` takes more.

    >>> start_digest("Norrow").digest_size
    16
    """
    return blake2b(content.encode() if isinstance(content, str) else content, digest_size=_SIZE)


def digest_of(content: Any) -> str:
    """Return the digest of bytes, or of a text in UTF-8, as digits of base 16.

    >>> digest_of("Norrow")
    '9dc3b3467e2e8a1cfa34b134edf5057b'
    """
    return start_digest(content).hexdigest()


def file_digest(path: Path) -> str:
    """Return a digest of a file: of its size, and of all its bytes, or of samples of a long one."""
    with path.open("rb") as file:
        return digest_of_file(file, path.stat().st_size)


def digest_of_file(file: Any, size: int) -> str:
    """Return the same of a file that is open, wherever it lies."""
    digest = start_digest(str(size))
    if size <= _SAMPLE * _SAMPLES:
        digest.update(file.read())
        return digest.hexdigest()
    starts = [(size - _SAMPLE) * number // (_SAMPLES - 1) for number in range(_SAMPLES)]
    if hasattr(file, "read_at"):  # each is a request, which takes its time wherever the file is far
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(_REQUESTS) as pool:
            for sample in pool.map(partial(file.read_at, _SAMPLE), starts):
                digest.update(sample)
        return digest.hexdigest()
    for start in starts:
        file.seek(start)
        digest.update(file.read(_SAMPLE))
    return digest.hexdigest()
