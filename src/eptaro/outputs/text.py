"""Tables as text: CSV, JSON and Markdown."""

from __future__ import annotations

import csv as plain_csv
import io
import json
import math
import re
from dataclasses import replace
from functools import partial
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eptaro.core.kernels.parallel import WORKERS, run_parallel
from eptaro.core.results.column import Column
from eptaro.core.results.format import NUMERIC, shown_table
from eptaro.core.results.result import Result
from eptaro.presentation.headline import footer, headline

# A formula may begin after spaces, and with the wide forms of its marks; -5 and +1.5 are numbers.
_FORMULA = re.compile(
    r"[\t\r\n]|\s*(?:[=@\uff1d\uff20]|[+\-\uff0b\uff0d](?!(?:\d+[.,]?\d*|[.,]\d+)\Z))"
)
_MAY_BE_FORMULA = r"^\s*[=@+\-\x{ff1d}\x{ff20}\x{ff0b}\x{ff0d}]|^[\t\r\n]"


def escape_formulas(text: str) -> str:
    """Return a text that no spreadsheet takes for a formula: an apostrophe goes before it.

    Plain numbers such as `-5` and `+1.5` stay as they are.

    >>> [escape_formulas(text) for text in ("=1+1", "-5", "-cmd", "Fenholm")]
    ["'=1+1", '-5', "'-cmd", 'Fenholm']
    """
    return f"'{text}" if _FORMULA.match(text) else text


def guarded_table(table: Result) -> Result:
    """Return a table whose text, and the names of whose columns, are guarded."""
    columns = []
    for column in table.columns:
        safe = replace(column, name=escape_formulas(column.name))
        if column.kind == "text" and column.choices is not None:
            words = column.choices.tolist()
            if any(isinstance(word, str) and _FORMULA.match(word) for word in words):
                guarded = [
                    escape_formulas(word) if isinstance(word, str) else word for word in words
                ]
                safe = replace(safe, choices=np.array([*guarded, None], object)[:-1])
        columns.append(safe)
    return Result(columns, table.meta, table.answer)


def guarded_rows(rows: pa.Table) -> pa.Table:
    """Return an Arrow table whose text is guarded; its column names are guarded where written."""
    for place, field in enumerate(rows.schema):
        if not (pa.types.is_string(field.type) or pa.types.is_large_string(field.type)):
            continue
        column = rows.column(place)
        if pc.any(pc.match_substring_regex(column, _MAY_BE_FORMULA)).as_py():
            words = pc.unique(column)
            safe = pa.array(
                [w if w is None else escape_formulas(w) for w in words.to_pylist()], field.type
            )
            rows = rows.set_column(place, field, safe.take(pc.index_in(column, words)))
    return rows


def to_json(table: Result) -> str:
    """Return a list of row objects: ISO dates, null for blanks, plain numbers.

    Decimals are written digit by digit, not by way of a float.
    """
    if not len(table):
        return "[]\n"
    keys = [json.dumps(name, ensure_ascii=False) for name in table.names]
    cells = [_literals(column) for column in table.columns]
    rows = (
        "  {" + ", ".join(f"{k}: {v}" for k, v in zip(keys, row, strict=True)) + "}"
        for row in zip(*cells, strict=True)
    )
    return "[\n" + ",\n".join(rows) + "\n]\n"


def to_json_object(table: Result) -> str:
    """Return one object: the headline, what is beside the rows, and the rows."""
    words = {"headline": headline(table), "footer": footer(table)}
    head = ",\n".join(
        f'"{key}": {json.dumps(text, ensure_ascii=False)}' for key, text in words.items()
    )
    return f'{{\n{head},\n"rows": {to_json(table).rstrip()}\n}}\n'


def _literals(column: Column) -> list[str]:
    return [_literal(value, column) for value in column.to_list()]


def _literal(value: Any, column: Column) -> str:
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return "null"
    match column.kind:
        case "decimal":
            return f"{value:f}"
        case "date":
            return f'"{value}"'
        case _:
            return json.dumps(value, ensure_ascii=False)


_SPECIAL = re.compile(r'[",\r\n]')
_SLICE = 1 << 11  # rows written at a time by each thread


def write_csv(table: Result, sink: BinaryIO) -> None:
    """Write comma-separated values (RFC 4180) with a header, in UTF-8; blanks are empty.

    Text is quoted only where some of it calls for that; text that a spreadsheet would
    take for a formula gets an apostrophe before it.
    """
    from eptaro.outputs.arrow import to_arrow

    table = guarded_table(table)
    texts = [column.choices for column in table.columns if column.kind == "text"]
    quoted = any(
        _SPECIAL.search("\0".join(map(str, words.tolist()))) for words in texts if words is not None
    )
    write_csv_rows(to_arrow(table), sink, header=True, quoted=quoted)


def needs_quotes(rows: pa.Table) -> bool:
    """Return whether some text of an Arrow table must be quoted in CSV."""
    texts = [column for column in rows.columns if pa.types.is_string(column.type)]
    return any(pc.any(pc.match_substring_regex(t, _SPECIAL.pattern)).as_py() for t in texts)


def write_csv_rows(rows: pa.Table, sink: BinaryIO, *, header: bool, quoted: bool = False) -> None:
    """Write an Arrow table as CSV, slices of its rows at the same time."""
    from pyarrow import csv

    if header:
        line = io.StringIO()
        plain_csv.writer(line, lineterminator="\n").writerow(rows.column_names)
        if any("\r" in name for name in rows.column_names):  # which that writer leaves bare
            quoted_names = ('"' + name.replace('"', '""') + '"' for name in rows.column_names)
            line = io.StringIO(",".join(quoted_names) + "\n")
        sink.write(line.getvalue().encode("utf-8"))
    options = csv.WriteOptions(include_header=False, quoting_style="needed" if quoted else "none")

    def encoded(start: int) -> pa.Buffer:
        part = pa.BufferOutputStream()  # Arrow's own: threads need not take turns
        csv.write_csv(rows.slice(start, _SLICE), part, options)
        return part.getvalue()

    starts, most = range(0, rows.num_rows, _SLICE), 4 * WORKERS
    for wave in range(0, len(starts), most):  # so that few slices wait in memory
        for part in run_parallel([partial(encoded, at) for at in starts[wave : wave + most]]):
            sink.write(part)


def to_csv(table: Result) -> str:
    """Return what `write_csv` writes, as text."""
    sink = io.BytesIO()
    write_csv(table, sink)
    return sink.getvalue().decode("utf-8")


def to_markdown(table: Result) -> str:
    """Return a Markdown table with its footer below."""
    cells = [[_escape_markdown(text) for text in texts] for texts in shown_table(table)]
    heads = [_escape_markdown(name) for name in table.names]
    rules = ["---:" if column.kind in NUMERIC else "---" for column in table.columns]
    lines = [_line(heads), _line(rules), *(_line(list(row)) for row in zip(*cells, strict=True))]
    caption = footer(table)
    return "\n".join([*lines, *(["", caption] if caption else [])]) + "\n"


def _line(items: list[str]) -> str:
    return f"| {' | '.join(items)} |"


_MARKS = re.compile(r"[\\`*\[\]<|~#!$:]|(?<![^\W_])_|_(?![^\W_])|(?<=www)\.", re.IGNORECASE)


def _escape_markdown(text: str) -> str:
    """Return a text whose marks Markdown takes as letters: no link, picture or emphasis.

    >>> print(_escape_markdown("[a](http://b) *c* d_e"))
    \\[a\\](http\\://b) \\*c\\* d_e
    """
    flat = " ".join(text.splitlines()) if not text.isprintable() else text
    return _MARKS.sub(lambda match: "&lt;" if match[0] == "<" else f"\\{match[0]}", flat)
