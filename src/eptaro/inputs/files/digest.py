"""What tells one input file from another."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any


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
