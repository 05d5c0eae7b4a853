"""How a text file is written, guessed from its first lines: encoding, separator, header."""

from __future__ import annotations

import csv
import io
import re
import shlex
from collections import Counter
from dataclasses import replace
from pathlib import Path

from eptaro.inputs.dates.texts import is_whole_date
from eptaro.inputs.files.opening import READERS
from eptaro.rules import FileRules, usual_delimiter

_PEEK, _LINES = 1 << 16, 60  # bytes and lines
_MARKS = (",", ";", "\t", "|")
_NUMBER = re.compile(r"[-+(]?[^\w\s]?\s*\d[\d.,' ]*%?\)?-?")


def guess_file_rules(path: str, file_rules: FileRules) -> tuple[FileRules, list[str]]:
    """Return rules for a text file, and what was seen, where its rules are not given.

    Files of other kinds, and addresses, keep their rules.
    """
    file, usual = Path(path), FileRules()
    suffix = file.suffix.lower()
    texts = suffix in (".csv", ".tsv", ".txt", ".dat", ".asc", ".prn", "")
    if "://" in path or not file.is_file() or not texts:
        return file_rules, []
    with file.open("rb") as stream:
        start = stream.read(_PEEK)
    rules, words = file_rules, list[str]()
    if file_rules.like is None and suffix not in READERS:
        rules, words = replace(rules, like="csv"), [*words, "read as csv, whatever the ending"]
    if file_rules.encoding == usual.encoding and (encoding := _encoding(start)) != usual.encoding:
        rules, words = replace(rules, encoding=encoding), [*words, f"the encoding is {encoding}"]
    lines = start.decode(rules.encoding, errors="replace").lstrip("\ufeff").splitlines()
    lines = lines[: -1 if len(start) == _PEEK else None][:_LINES]
    usual_mark = usual_delimiter(file_rules.decimal)
    if file_rules.delimiter == usual_mark and suffix != ".tsv":
        mark = _mark(lines)
        if mark != usual_mark and mark != file_rules.decimal:
            rules, words = (
                replace(rules, delimiter=mark),
                [*words, f"fields are separated by {mark!r}"],
            )
        elif not any(mark in line for line in lines) and _are_aligned(lines):
            words.append(
                f"columns seem to be separated by spaces, which cannot be read; turn them into "
                f"commas first: sed -E 's/^ +//; s/ +/,/g' {shlex.quote(path)} > new.csv"
            )
    if file_rules.header_row == 1:
        tab = suffix == ".tsv" and rules.delimiter == ","
        mark = "\t" if tab else rules.delimiter
        row = _header(lines, mark)
        if _begins_with_a_row(_fields(lines, mark)):
            words.append("no line names the columns: they are called c1, c2, ...")
            rules = replace(rules, header_row="none")
        elif row > 1:
            rules, words = replace(rules, header_row=row), [*words, f"line {row} names the columns"]
    return rules, words


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


def _are_aligned(lines: list[str]) -> bool:
    """Return whether lines seem to hold several columns with spaces between."""
    widths = {len(line.split()) for line in lines if line.strip()}
    return len(widths) == 1 and widths.pop() > 2


def _begins_with_a_row(rows: list[list[str]]) -> bool:
    """Return whether the first line holds a date where all others have one too."""
    first, *others = rows or [[]]
    return any(
        is_whole_date(text)
        and bool(below := [row[place] for row in others if len(row) == len(first)])
        and all(map(is_whole_date, filter(None, below)))
        for place, text in enumerate(first)
    )


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
        looks_named = len({*fields}) == len(fields) == width and all(map(str.strip, fields))
        if (
            looks_named
            and sum(bool(_NUMBER.fullmatch(field.strip())) for field in fields) * 2 < width
        ):
            return number
    return 1
