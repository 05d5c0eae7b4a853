"""The functions of `pyarrow.compute`, which is imported only where one of its others is used.

It writes a Python function for each of its three hundred kernels when it is imported, which takes
longer than reading a small file. What every file needs is called here without it.
"""

from __future__ import annotations

from typing import Any

import pyarrow as pa

try:  # the module that `pyarrow.compute` takes these from
    from pyarrow._compute import CastOptions, SetLookupOptions, call_function
except ImportError:
    from pyarrow.compute import CastOptions, SetLookupOptions, call_function


def cast(array: Any, kind: pa.DataType) -> Any:
    """Return an array as another type; raises `ArrowInvalid` where a value does not fit it.

    >>> cast(pa.array(["7", "5"]), pa.int64()).to_pylist()
    [7, 5]
    """
    if array.type == kind:
        return array
    return call_function("cast", [array], CastOptions.safe(kind))


def take(array: Any, indices: Any) -> Any:
    """Return the values at some places."""
    return call_function("take", [array, indices])


def is_in(values: Any, value_set: pa.Array) -> Any:
    """Return which values are among others."""
    return call_function("is_in", [values], SetLookupOptions(value_set))


def utf8_trim_whitespace(texts: Any) -> Any:
    """Return texts without the white space around them."""
    return call_function("utf8_trim_whitespace", [texts])


def utf8_length(texts: Any) -> Any:
    """Return the number of characters of each text."""
    return call_function("utf8_length", [texts])


def min_max(values: Any) -> Any:
    """Return the least and the largest value, in one struct."""
    return call_function("min_max", [values])


def __getattr__(name: str) -> Any:
    import pyarrow.compute

    return getattr(pyarrow.compute, name)
