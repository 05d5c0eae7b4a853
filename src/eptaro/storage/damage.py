"""What a damaged book leads to, told as an error of ours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from eptaro.errors import EptaroError, InputError


@contextmanager
def damage(name: object, what: str = "book") -> Iterator[None]:
    """Turn whatever damaged files lead to into `InputError`."""
    try:
        yield
    except EptaroError:
        raise
    except Exception as error:
        told = f"{type(error).__name__}: {error}"
        raise InputError(f"{name}: is a damaged {what}: {' '.join(told.split())}") from None
