"""What a command sets for its process: output that accepts every letter, pyarrow without pandas."""

from __future__ import annotations

import codecs
import os
import sys
from io import TextIOWrapper
from pathlib import Path

_MARKS = {"─": "-", "▇": "#", "…": "...", "·": "|"}


def _spell(error: UnicodeError) -> tuple[str, int]:
    """Return what is printed for letters that a terminal does not have."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    letters = error.object[error.start : error.end]
    escaped = (
        _MARKS.get(letter) or letter.encode("ascii", "backslashreplace").decode()
        for letter in letters
    )
    return "".join(escaped), error.end


def prepare_streams() -> None:
    """Let standard output and error take every letter, whatever the locale.

    Files and other programs get UTF-8. A terminal, or the encoding that `PYTHONIOENCODING` asks
    for, gets an escape for a letter that it does not have.
    """
    if sys.stdout is None:  # it was closed; an answer that goes to a file needs none
        sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115
    codecs.register_error("eptaro", _spell)
    for stream in (sys.stdout, sys.stderr):
        if not isinstance(stream, TextIOWrapper) or codecs.lookup(stream.encoding).name == "utf-8":
            continue
        if stream.isatty() or os.environ.get("PYTHONIOENCODING"):
            stream.reconfigure(errors="eptaro")
        else:
            stream.reconfigure(encoding="utf-8")


def leave_pandas_out() -> None:
    """Have pyarrow do without pandas in this process.

    At its first conversion of a value of Python, pyarrow imports pandas and dateutil to see whether
    they are there, which takes longer than a command's whole work on small data. That there is no
    pandas is what it keeps to; dateutil is imported where a later conversion needs it.
    """
    if "pandas" in sys.modules:
        return
    import pyarrow as pa

    sys.meta_path.insert(0, _Hidden)
    try:
        pa.scalar(0)
    finally:
        sys.meta_path.remove(_Hidden)


class _Hidden:
    """A finder of modules that finds none of two packages."""

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        if name in ("pandas", "dateutil"):
            raise ImportError(name)
