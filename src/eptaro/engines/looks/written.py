"""How a text file is written, by the evidence of its first lines."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from dataclasses import replace
from pathlib import Path

from eptaro.inputs.files.opening import READERS
from eptaro.rules.files import FileRules, usual_delimiter

_PEEK, _LINES = 1 << 16, 60  # bytes and lines
_MARKS = (",", ";", "\t", "|")
_NUMBER = re.compile(r"[-+(]?[^\w\s]?\s*\d[\d.,' ]*%?\)?-?")


def guessed(path: str, given: FileRules) -> tuple[FileRules, list[str]]:
    """Return rules for a text file, and what was seen, where its rules are not given.

    Files of other kinds, and addresses, keep their rules.
    """
    file, usual = Path(path), FileRules()
    suffix = file.suffix.lower()
    texts = suffix in (".csv", ".tsv", ".txt", ".dat", ".asc", ".prn", "")
    if "://" in path or not file.is_file() or not texts:
        return given, []
    with file.open("rb") as stream:
        start = stream.read(_PEEK)
    rules, told = given, list[str]()
    if given.like is None and suffix not in READERS:
        rules, told = replace(rules, like="csv"), [*told, "read as csv, whatever the ending"]
    if given.encoding == usual.encoding and (encoding := _encoding(start)) != usual.encoding:
        rules, told = replace(rules, encoding=encoding), [*told, f"the encoding is {encoding}"]
    lines = start.decode(rules.encoding, errors="replace").lstrip("\ufeff").splitlines()
    lines = lines[: -1 if len(start) == _PEEK else None][:_LINES]
    usual_mark = usual_delimiter(given.decimal)
    if given.delimiter == usual_mark and suffix != ".tsv":
        mark = _mark(lines)
        if mark != usual_mark and mark != given.decimal:
            rules, told = (
                replace(rules, delimiter=mark),
                [*told, f"fields are set apart by {mark!r}"],
            )
    if given.header_row == 1:
        tab = suffix == ".tsv" and rules.delimiter == ","
        row = _header(lines, "\t" if tab else rules.delimiter)
        if row > 1:
            rules, told = replace(rules, header_row=row), [*told, f"line {row} names the columns"]
    return rules, told


def _encoding(start: bytes) -> str:
    if start[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    try:
        start[: start.rfind(b"\n") + 1 or None].decode("utf-8")
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"


def _fields(lines: list[str], mark: str) -> list[list[str]]:
    return [*csv.reader(io.StringIO("\n".join(lines)), delimiter=mark)]


def _mark(lines: list[str]) -> str:
    """Return the mark that cuts most lines into the same number of fields, more than one."""
    best, fewest = ",", (0, 0)
    for mark in _MARKS:
        widths = Counter(len(fields) for fields in _fields(lines, mark) if len(fields) > 1)
        if widths:
            width, alike = widths.most_common(1)[0]
            if (alike, width) > fewest:
                best, fewest = mark, (alike, width)
    return best


def _header(lines: list[str], mark: str) -> int:
    """Return the first line that has as many fields as most, all of them different words."""
    rows = _fields(lines, mark)
    if len(rows) != len(lines):  # a field goes over several lines
        return 1
    widths = Counter(len(fields) for fields in rows if len(fields) > 1)
    if not widths:
        return 1
    width = widths.most_common(1)[0][0]
    for number, fields in enumerate(rows, 1):
        named = len({*fields}) == len(fields) == width and all(map(str.strip, fields))
        if named and sum(bool(_NUMBER.fullmatch(field.strip())) for field in fields) * 2 < width:
            return number
    return 1
