"""Sheets of workbooks (xlsx, xlsb, ods) as tables, by python-calamine."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.core.errors import InputError, unknown
from eptaro.inputs.extras import need


def read_sheet(path: Path, sheet: str | None) -> pa.Table:
    """Return a sheet (the first, unless named) whose first row holds the column names.

    Date cells stay dates, numbers numbers; a column that mixes kinds becomes text.
    """
    calamine = need("python_calamine", "workbooks", f"reading {path}")
    try:
        book = calamine.load_workbook(str(path))
        names = list(book.sheet_names)
        if sheet is not None and sheet not in names:
            raise InputError(f"{path}: {unknown('sheet', sheet, names)}")
        rows = book.get_sheet_by_name(sheet or names[0]).to_python(skip_empty_area=True)
    except InputError:
        raise
    except Exception as error:  # the package has one error class per kind of file
        raise InputError(f"{path}: cannot be read: {' '.join(str(error).split())}") from None
    if not rows:
        raise InputError(f"{path}: sheet {sheet or book.sheet_names[0]!r} is empty")
    header, body = rows[0], rows[1:]
    columns = zip(*body, strict=True) if body else [() for _ in header]
    return pa.table([_column(list(column)) for column in columns], [str(name) for name in header])


def _column(cells: list[Any]) -> pa.Array:
    values = [None if cell == "" else cell for cell in cells]
    kinds = {type(value) for value in values if value is not None}
    if kinds == {dt.date}:
        return pa.array(values, pa.date32())
    if kinds and kinds <= {dt.date, dt.datetime}:
        stamps = [_stamp(value) for value in values]
        return pa.array(stamps, pa.timestamp("us"))
    if kinds and kinds <= {int, float}:
        whole = all(value is None or float(value).is_integer() for value in values)
        numbers = [int(v) if whole and v is not None else v for v in values]
        return pa.array(numbers, pa.int64() if whole else pa.float64())
    if kinds == {bool}:
        return pa.array(values, pa.bool_())
    return pa.array([None if value is None else _text(value) for value in values], pa.string())


def _stamp(value: Any) -> dt.datetime | None:
    if value is None or isinstance(value, dt.datetime):
        return value
    return dt.datetime.combine(value, dt.time())


def _text(value: Any) -> str:
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)
