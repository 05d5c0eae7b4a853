"""The functions of `pyarrow.compute`, each made when it is first used.

That module writes a Python function for each of its three hundred kernels when it is imported,
which takes longer than reading a small file; here a kernel is looked up by its name. What
is not a kernel is taken from there.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

_WRITTEN_IN_PYTHON = ("index",)


@cache
def _kernels() -> Any:
    """Return the module that `pyarrow.compute` takes kernels from; small inputs need none."""
    try:
        from pyarrow import _compute
    except ImportError:
        import pyarrow.compute as _compute
    return _compute


def cast(array: Any, kind: pa.DataType) -> Any:
    """Return an array as another type; raises `ArrowInvalid` where a value does not fit it.

    >>> cast(pa.array(["7", "5"]), pa.int64()).to_pylist()
    [7, 5]
    """
    if array.type == kind:
        return array
    return _kernels().call_function("cast", [array], _kernels().CastOptions.safe(kind))


def array_of(values: NDArray[np.integer[Any]]) -> pa.Array:
    """Return whole numbers as an array; `pa.array` would load the masked arrays of NumPy first.

    >>> array_of(np.array([3, 5])).to_pylist()
    [3, 5]
    """
    kind = pa.from_numpy_dtype(values.dtype)
    return pa.Array.from_buffers(kind, len(values), [None, pa.py_buffer(values)])


def array_of_texts(texts: Sequence[str]) -> pa.Array:
    """Return texts as an array; `pa.array` would load dateutil first, to look for its intervals.

    >>> array_of_texts(["Norrow", ""]).to_pylist()
    ['Norrow', '']
    """
    encoded = [text.encode() for text in texts]
    ends = np.cumsum([0, *map(len, encoded)], dtype=np.int32)
    buffers = [None, pa.py_buffer(ends), pa.py_buffer(b"".join(encoded))]
    return pa.Array.from_buffers(pa.string(), len(encoded), buffers)


def take(array: Any, indices: Any) -> Any:
    """Return the values at some places."""
    return _kernels().call_function("take", [array, indices])


def fill_null(values: Any, fill: Any) -> Any:
    """Return values with another in place of blanks.

    >>> fill_null(pa.array([7, None]), 0).to_pylist()
    [7, 0]
    """
    return _kernels().call_function("coalesce", [values, pa.scalar(fill, values.type)])


def _kernel_and_options(name: str) -> tuple[Any, Any] | None:
    kernels = _kernels()
    try:
        kernel = kernels.get_function(name)
        return kernel, getattr(kernels, kernel._doc.options_class, None)
    except (KeyError, AttributeError):  # no kernel, or a pyarrow that keeps them in another way
        return None


def __getattr__(name: str) -> Any:
    """Return a function of `pyarrow.compute`, with the arguments that it has there."""
    found = None if name in _WRITTEN_IN_PYTHON else _kernel_and_options(name.removesuffix("_"))
    if found is None:
        import pyarrow.compute

        return getattr(pyarrow.compute, name)
    kernel, options = found

    def call(*arguments: Any, **settings: Any) -> Any:
        arity = len(arguments) if kernel.arity is ... else kernel.arity
        arrays, given = arguments[:arity], arguments[arity:]
        chosen = options(*given, **settings) if options and (given or settings) else None
        return kernel.call(list(arrays), chosen)

    globals()[name] = call
    return call
