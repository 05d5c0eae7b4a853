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
        rows = book.get_sheet_by_name(sheet or names[0]).to_python(skip_empty_area=True)
        return {"rows": rows, "sheet": sheet or names[0]}
    except Exception as error:  # the package has one error class per kind of file
        return {"error": str(error)}


if __name__ == "__main__":
    pickle.dump(read(sys.argv[1], sys.argv[2], int(sys.argv[3])), sys.stdout.buffer, protocol=5)
