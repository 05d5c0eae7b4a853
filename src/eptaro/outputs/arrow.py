"""Tables as Arrow and pandas frames."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.errors import InputError

if TYPE_CHECKING:
    import pandas

_TYPES = {
    "integer": pa.int64(),
    "float": pa.float64(),
    "date": pa.date32(),
    "flag": pa.bool_(),
    "text": pa.string(),
}


def to_arrow(table: Result) -> pa.Table:
    """Return a pyarrow Table; what a column means is in its field's metadata.

    The table's own meta (calendar, coverage, as-of, measures) is in the schema's.
    """
    fields, arrays = [], []
    for column in table.columns:
        array = to_array(column)
        notes = {"description": column.description, "unit": column.unit}
        filled_notes = {key: value for key, value in notes.items() if value}
        fields.append(pa.field(column.name, array.type, metadata=filled_notes or None))
        arrays.append(array)
    metadata = {"eptaro": json.dumps(table.meta, default=str)} if table.meta else None
    return pa.Table.from_arrays(arrays, schema=pa.schema(fields, metadata=metadata))


def to_array(column: Column) -> pa.Array:
    """Return one column as an Arrow array."""
    mask = None if column.valid is None else ~column.valid
    if column.kind == "decimal":
        return _decimals(column)
    if column.kind == "text":
        codes = pa.array(column.data, mask=mask)
        words = pa.array([] if column.choices is None else column.choices.tolist(), pa.string())
        return words.take(codes)
    data = column.data
    if column.kind == "float":
        mask = np.isnan(data) if mask is None else mask | np.isnan(data)
    kind = pa.int32() if data.dtype == "int32" and column.kind == "integer" else None
    return pa.array(data, kind or _TYPES[column.kind], mask=mask)


def _decimals(column: Column) -> pa.Array:
    """Return 64-bit units as decimal128 without a detour by Python objects."""
    words = np.empty((len(column), 2), np.int64)
    words[:, 0] = column.data
    words[:, 1] = column.data >> 63
    valid = None
    if column.valid is not None:
        valid = pa.py_buffer(np.packbits(column.valid, bitorder="little"))
    kind = pa.decimal128(max(19, column.scale + 1), column.scale)
    return pa.Array.from_buffers(kind, len(column), [valid, pa.py_buffer(words)])


def to_pandas(table: Result, *, exact: bool = False) -> pandas.DataFrame:
    """Return a pandas DataFrame in the kinds that pandas computes with; where it is to be exact,
    decimals are backed by Arrow.
    """
    return pandas_frame(to_arrow(table), exact=exact)


def pandas_frame(rows: pa.Table, *, exact: bool = False, plain: bool = False) -> pandas.DataFrame:
    """Return an Arrow table as a pandas DataFrame, days and moments as datetime64.

    Whole numbers are Int64, decimals and floats float64, flags boolean and texts strings, each of
    which can be blank; `exact` keeps decimals as they are, `plain` leaves all kinds to pandas.
    """
    try:
        import pandas
    except ImportError:
        raise InputError("to_pandas needs pandas; install it with: pip install pandas") from None

    def kind(of: pa.DataType) -> Any:
        if pa.types.is_decimal(of):
            return pandas.ArrowDtype(of)
        if pa.types.is_integer(of):
            return pandas.Int64Dtype()
        if pa.types.is_boolean(of):
            return pandas.BooleanDtype()
        return pandas.StringDtype() if pa.types.is_string(of) else None

    if not exact and not plain:
        for place, field in enumerate(rows.schema):
            if pa.types.is_decimal(field.type):
                rows = rows.set_column(place, field.name, rows.column(place).cast(pa.float64()))
    mapper: Any = None if plain else kind
    return rows.to_pandas(types_mapper=mapper, date_as_object=False)


def to_polars(table: Result) -> Any:
    """Return a Polars DataFrame."""
    try:
        import polars
    except ImportError:
        raise InputError("to_polars needs polars; install it with: pip install polars") from None

    return polars.from_arrow(to_arrow(table))
