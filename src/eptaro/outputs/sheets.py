"""Tables in workbooks: real dates and numbers, formats, widths that fit, live totals."""

from __future__ import annotations

import datetime as dt
import re
from pathlib import Path
from typing import Any

from eptaro.core.results.column import Column
from eptaro.core.results.format import format_column
from eptaro.core.results.result import Result
from eptaro.errors import InputError
from eptaro.presentation.headline import footer

_FIRST_DATE = dt.date(1900, 3, 1)  # earlier days are not the same day in every program
_WIDEST, _MOST_ROWS = 40, 1_048_000
_INDENTS = {"left": 0, "center": 0, "right": 1}


def need_xlsxwriter() -> Any:
    """Return the package that writes workbooks, or raise `InputError` saying what is missing."""
    try:
        import xlsxwriter
    except ImportError:
        raise InputError(
            "workbooks need the package xlsxwriter; install it with: pip install 'eptaro[reports]'"
        ) from None
    return xlsxwriter


class Workbook:
    """A workbook in the making, with the formats that its cells share."""

    def __init__(self, path: Path) -> None:
        options = {
            "strings_to_formulas": False,
            "strings_to_urls": False,
            "strings_to_numbers": False,
        }
        self.file = need_xlsxwriter().Workbook(str(path), options)
        # The same answer gives the same file: no clock in it.
        self.file.set_properties({"created": dt.datetime(2000, 1, 1), "author": "", "title": ""})
        self._formats: dict[str, Any] = {}
        self._names: set[str] = set()

    def format(self, **wanted: Any) -> Any:
        """Return a cell format, made once."""
        key = repr(sorted(wanted.items()))
        if key not in self._formats:
            self._formats[key] = self.file.add_format(wanted)
        return self._formats[key]

    def sheet(self, title: str) -> Any:
        """Add a sheet under a legal name that no other has."""
        name = sheet_name(title, self._names)
        self._names.add(name.lower())
        return self.file.add_worksheet(name)

    def close(self) -> None:
        """Write the file; raises `OSError` where the disk refuses."""
        from xlsxwriter.exceptions import FileCreateError

        try:
            self.file.close()
        except FileCreateError as error:
            raise OSError(str(error)) from None


def sheet_name(title: str, names_taken: set[str]) -> str:
    """Return a legal name for a sheet: at most 31 letters, none of []:*?/\\, used once.

    >>> sheet_name("a/b: [c]", set()), sheet_name("Fenholm", {"fenholm"})
    ('a-b- -c-', 'Fenholm 2')
    """
    clean = re.sub(r"[\[\]:*?/\\\x00-\x1f]", "-", title).strip().strip("'")[:31].strip()
    clean = "sheet" if not clean or clean.lower() == "history" else clean
    name, number = clean, 2
    while name.lower() in names_taken:
        tail = f" {number}"
        name, number = f"{clean[: 31 - len(tail)]}{tail}", number + 1
    return name


def number_format(column: Column) -> str:
    """Return how a workbook shows a column's numbers.

    >>> number_format(Column.of("fare", "decimal", [1], scale=2))
    '#,##0.00'
    """
    form = column.format
    if column.unit in ("share", "ratio") or (form and form.percent):
        return "0.0%" if column.unit == "share" else "+0.0%;-0.0%;0.0%"
    if column.unit == "number":
        return "0"
    places = {"integer": 0, "decimal": column.scale}.get(column.kind, 2)
    if form and form.places is not None:
        places = form.places
    plain = "#,##0" + ("." + "0" * places if places else "")
    sign = '"' + form.sign.replace('"', "") + '"' if form and form.sign else ""
    return f"{sign}{plain};-{sign}{plain}" if sign else plain


def write_cells(
    book: Workbook, sheet: Any, table: Result, row: int, *, widths: bool = True, words: bool = False
) -> int:
    """Write headings and rows from a row on, and return the row after the last.

    With `widths`, columns are made as wide as what they hold; with `words`, headings are
    written with spaces so that they fold between words.
    """
    if len(table) > _MOST_ROWS:
        raise InputError(f"{len(table):,} rows do not fit on a sheet; write .csv or .parquet")
    if words:
        sheet.set_row(row, 15 * max(len(name.split("_")) for name in table.names))
    for place, column in enumerate(table.columns):
        side = {"text": "left", "flag": "center"}.get(column.kind, "right")
        head = book.format(
            bold=True, bottom=1, text_wrap=True, valign="bottom", align=side, indent=_INDENTS[side]
        )
        name = column.name.replace("_", " ") if words else column.name
        sheet.write_string(row, place, name, head)
        _write_column(book, sheet, column, row + 1, place)
        if not widths:
            continue
        longest = max([len(text) for text in format_column(column)[:1000]], default=0)
        parts = max((len(part) for part in name.split(" ")), default=0)
        sheet.set_column(place, place, min(max(longest, parts, 7) + 3, _WIDEST))
    return row + 1 + len(table)


def right(book: Workbook, **wanted: Any) -> Any:
    """Return the format of a cell at the right, which leaves a gap to its neighbour's heading."""
    return book.format(align="right", indent=_INDENTS["right"], **wanted)


def _write_column(book: Workbook, sheet: Any, column: Column, row: int, place: int) -> None:
    numbers = right(book, num_format=number_format(column))
    for at, value in enumerate(column.to_list(), row):
        if value is None or value != value:
            continue
        if column.kind in ("integer", "decimal", "float"):
            number = float(value)
            if abs(number) != float("inf"):
                sheet.write_number(at, place, number, numbers)
        elif column.kind == "date" and value >= _FIRST_DATE:
            sheet.write_datetime(
                at,
                place,
                dt.datetime.combine(value, dt.time()),
                right(book, num_format="yyyy-mm-dd"),
            )
        elif column.kind == "flag":
            sheet.write_string(at, place, "yes" if value else "no", book.format(align="center"))
        else:
            sheet.write_string(at, place, str(value))


def write_xlsx(table: Result, path: Path) -> None:
    """Write a table as a workbook of one sheet; its footer is on another, so that the
    first holds rows alone and can be read again.
    """
    book = Workbook(path)
    sheet = book.sheet(str(table.meta.get("verb", "table")))
    write_cells(book, sheet, table, 0)
    sheet.freeze_panes(1, 0)
    if caption := footer(table):
        book.sheet("about").write_string(0, 0, caption)
    book.close()
