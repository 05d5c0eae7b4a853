"""Every operation with its compiled loops, where they were built, and in NumPy."""

from __future__ import annotations

from collections.abc import Iterator
from unittest import mock

from eptaro.core.kernels import dispatch


def both() -> Iterator[str]:
    """Run what follows twice where there are compiled loops; yield which way it goes."""
    for loops in (dispatch.loops, None) if dispatch.loops is not None else (None,):
        with mock.patch.object(dispatch, "loops", loops):
            yield "numpy" if loops is None else "compiled"


def sliced(rows: int, most: int) -> list[slice]:
    """Return uneven slices of rows, one of them empty."""
    return [slice(0, rows // 3), slice(rows // 3, rows // 3), slice(rows // 3, rows)]
