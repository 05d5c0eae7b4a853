"""Sheets of workbooks (xlsx, xlsb, ods) as tables, by python-calamine."""

from __future__ import annotations

import datetime as dt
import pickle
import subprocess
import sys
import zipfile
import zlib
from pathlib import Path
from typing import Any
from xml.parsers import expat

import pyarrow as pa

from eptaro.errors import InputError, unknown
from eptaro.inputs.files import sheetchild
from eptaro.optional import import_optional

_PATIENCE = 30  # seconds, and one more for so many bytes of the file
_PER_SECOND = 100_000
_MEMORY = 8 << 30  # bytes that the reader may take


def read_sheet(path: Path, sheet: str | None) -> tuple[pa.Table, dict[str, str]]:
    """Return a sheet (the first, unless named) whose first row holds the column names; and why
    columns cannot be used, some of whose cells show errors or formulas without a result.

    Date cells stay dates, numbers numbers; a column that mixes kinds becomes text. A process
    of its own reads the file, with a limit on memory and time.
    """
    import_optional("python_calamine", "workbooks", f"reading {path}")
    if path.suffix.lower() == ".ods":
        _check_xml(path)
    reply = _read_apart(path, sheet or "")
    if "error" in reply:
        raise InputError(f"{path}: cannot be read: {' '.join(reply['error'].split())}")
    if "names" in reply:
        raise InputError(f"{path}: {unknown('sheet', sheet, reply['names'])}")
    rows = reply["rows"]
    if not rows:
        raise InputError(f"{path}: sheet {reply['sheet']!r} is empty")
    header, body = rows[0], rows[1:]
    columns = zip(*body, strict=True) if body else [() for _ in header]
    names = [str(name) for name in header]
    unusable = {names[at]: words for at, words in reply["odd"].items() if 0 <= at < len(names)}
    return pa.table([_column(list(column)) for column in columns], names), unusable


def _read_apart(path: Path, sheet: str) -> dict[str, Any]:
    """Return what the reading process found; raise `InputError` where it did not end well."""
    seconds = _PATIENCE + path.stat().st_size / _PER_SECOND
    command = [sys.executable, "-P", sheetchild.__file__, str(path), sheet, str(_MEMORY)]
    try:
        process = subprocess.run(command, capture_output=True, timeout=seconds, check=False)
    except subprocess.TimeoutExpired:
        raise InputError(
            f"{path}: cannot be read: its reader did not end within {seconds:.0f} seconds"
        ) from None
    if process.returncode or not process.stdout:
        last = process.stderr.decode(errors="replace").strip().splitlines()[-1:] or ["no word"]
        raise InputError(
            f"{path}: cannot be read: its reader stopped ({last[0]}); the file is damaged, or has "
            f"more cells than {_MEMORY >> 30} GiB hold"
        )
    reply: dict[str, Any] = pickle.loads(process.stdout)
    return reply


def _check_xml(path: Path) -> None:
    """Raise `InputError` where the content of an ODS file is not whole."""
    parser = expat.ParserCreate()
    try:
        with zipfile.ZipFile(path) as packed, packed.open("content.xml") as content:
            parser.ParseFile(content)
    except (
        zipfile.BadZipFile,
        zlib.error,
        KeyError,
        OSError,
        EOFError,
        RuntimeError,
        NotImplementedError,
        expat.ExpatError,
    ) as error:
        raise InputError(f"{path}: cannot be read: {' '.join(str(error).split())}") from None


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
