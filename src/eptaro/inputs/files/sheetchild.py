"""Reads one sheet of a workbook in a process of its own: `python sheetchild.py FILE SHEET BYTES`.

The package that reads workbooks may take any memory or time for a damaged file, or end its
process. Here that is a process which holds nothing else and has a limit of memory. It writes
to standard output, pickled, either the rows and the sheet's name, or what was wrong.
"""

from __future__ import annotations

import contextlib
import pickle
import sys
from typing import Any


def read(path: str, sheet: str, most: int) -> dict[str, Any]:
    """Return the rows of a sheet (`` is the first), or the names of those there are."""
    with contextlib.suppress(ImportError, ValueError, OSError):  # not every system limits memory
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (most, most))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from python_calamine import load_workbook

    try:
        book = load_workbook(path)
        names = list(book.sheet_names)
        if not names or (sheet and sheet not in names):
            return {"names": names}
        range_of_cells = book.get_sheet_by_name(sheet or names[0])
        rows, begin = (
            range_of_cells.to_python(skip_empty_area=True),
            (range_of_cells.start or (0, 0))[1],
        )
        odd = without_value(path, sheet or names[0]) if path.lower().endswith("xlsx") else {}
        cells = {column - begin: words for column, words in odd.items()}
        return {"rows": rows, "sheet": sheet or names[0], "odd": cells}
    except Exception as error:  # the package has one error class per kind of file
        return {"error": str(error)}


def without_value(path: str, sheet: str) -> dict[int, str]:
    """Return for each column of a sheet (from 0) its first cell that shows an error, or whose
    formula has no stored result: the package reads both as empty.
    """
    import re
    import zipfile
    from xml.etree import ElementTree

    main = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
    link = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
    with zipfile.ZipFile(path) as packed:
        listed = ElementTree.fromstring(packed.read("xl/workbook.xml")).iter(f"{main}sheet")
        number = next((entry.get(link) for entry in listed if entry.get("name") == sheet), None)
        parts = ElementTree.fromstring(packed.read("xl/_rels/workbook.xml.rels"))
        target = next((part.get("Target") for part in parts if part.get("Id") == number), None)
        if target is None:  # another dialect of the format
            return {}
        place = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
        messages: dict[int, str] = {}
        with packed.open(place) as content:
            for _, cell in ElementTree.iterparse(content):
                if cell.tag == f"{main}row":
                    cell.clear()
                if cell.tag != f"{main}c":
                    continue
                value, formula = cell.find(f"{main}v"), cell.find(f"{main}f")
                name = cell.get("r", "")
                column = -1
                for letter in re.sub(r"[^A-Z]", "", name):
                    column = (column + 1) * 26 + ord(letter) - ord("A")
                if cell.get("t") == "e":
                    text = "" if value is None else f" ({value.text})"
                    messages.setdefault(column, f"cell {name} holds an error{text}")
                elif formula is not None and _is_empty(cell, value):
                    message = f"the formula in cell {name} has no stored result; open the "
                    message += "workbook in the program that made it, and save it there"
                    messages.setdefault(column, message)
        return messages


def _is_empty(cell: Any, value: Any) -> bool:
    """Return whether a cell stores no result, also no empty text."""
    return (value is None or value.text is None) and cell.get("t") not in ("str", "inlineStr")


if __name__ == "__main__":
    pickle.dump(read(sys.argv[1], sys.argv[2], int(sys.argv[3])), sys.stdout.buffer, protocol=5)
