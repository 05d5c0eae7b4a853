"""What a command sets for its process: output that accepts every letter, messages folded to the
terminal, pyarrow without pandas.
"""

from __future__ import annotations

import codecs
import os
import sys
from functools import partial
from io import TextIOWrapper
from pathlib import Path
from typing import TextIO

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


def fold_message(message: str, stream: TextIO | None = None) -> str:
    """Return a message for a stream, if not standard error, its lines folded between words where
    they would run over the edge of a terminal; other programs get them whole.
    """
    try:
        width = os.get_terminal_size((stream or sys.stderr).fileno()).columns
    except (OSError, ValueError, AttributeError):  # it is no terminal, or not there
        return message
    if not width or len(message) < width:
        return message
    from textwrap import wrap  # a short message needs none of it

    fold = partial(wrap, width=width, break_long_words=False, break_on_hyphens=False)
    return "\n".join("\n".join(fold(line)) for line in message.split("\n"))


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
