"""Small CSV files: goals, what each group covers, and the periods of a calendar."""

from __future__ import annotations

import csv
from collections.abc import Mapping, Sequence
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from eptaro.core.calendars import listed
from eptaro.core.calendars.listed import ListedCalendar
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError, DateError, InputError, unknown

_MOST = 64 << 20  # bytes


def check_small(path: Path) -> None:
    """Raise `InputError` for what is no file, such as a device that never ends, or is too large to
    be read at once.
    """
    if path.exists() and not path.is_file():
        raise InputError(f"{path}: is not a file")
    if path.exists() and path.stat().st_size > _MOST:
        raise InputError(f"{path}: is larger than {_MOST >> 20} MB, more than such a file holds")


def read_goals(path: str | Path) -> dict[Any, Any]:
    """Return the goals of a CSV file with a column `period`, at most one column of groups, and
    `goal`, the goals of the first measure, or a column of goals under the name of each measure.

    Raises `InputError` naming the row that cannot be read.
    """
    file = Path(path)
    others, rows = _read(file, ("period",))
    measures = ["goal"] if "goal" in others else [n for n in others if _holds_amounts(rows, n)]
    groups = [name for name in others if name not in measures]
    if not measures:
        raise InputError(
            f"{file}: {unknown('column', 'goal', others)}, or one of goals per measure"
        )
    if len(groups) > 1:
        raise InputError(f"{file}: goals go by one group column, not {', '.join(groups)}")
    keys = [(row[groups[0]], row["period"]) if groups else row["period"] for row in rows]
    goals = {
        name: {
            key: _amount(row, name, file, number)
            for number, (key, row) in enumerate(zip(keys, rows, strict=True), 1)
            if name == "goal" or (row[name] or "").strip()
        }
        for name in measures
    }
    return goals["goal"] if measures == ["goal"] else goals


def _holds_amounts(rows: Sequence[Mapping[str, str]], name: str) -> bool:
    """Return whether the first value of a column is a number."""
    first = next((word for row in rows if (word := (row[name] or "").strip())), "")
    try:
        return Decimal(first.replace(",", "")).is_finite()
    except InvalidOperation:
        return False


def read_coverage(path: str | Path) -> dict[Any, Span]:
    """Return the coverage of groups of a CSV file with columns `first`, `last` and the groups, in
    the order in which the book is grouped.

    Raises `InputError` naming the row that cannot be read.
    """
    file = Path(path)
    groups, rows = _read(file, ("first", "last"))
    return {
        tuple(row[group] or "(blank)" for group in groups): _days(row, file, number)
        for number, row in enumerate(rows, 1)
    }


def _read(file: Path, needed: Sequence[str]) -> tuple[list[str], list[dict[str, str]]]:
    """Return the names of the columns beside those that are needed, and all rows."""
    try:
        check_small(file)
        with file.open(encoding="utf-8-sig", newline="") as lines:
            reader = csv.DictReader(lines)
            names, rows = list(reader.fieldnames or ()), list(reader)
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        raise InputError(f"{file}: cannot be read: {reason}") from None
    for name in needed:
        if name not in names:
            raise InputError(f"{file}: {unknown('column', name, names)}")
    return [name for name in names if name not in needed], rows


def _days(row: dict[str, str], file: Path, number: int) -> Span:
    try:
        return Span(row["first"], row["last"])
    except DateError as error:
        raise InputError(f"{file}: row {number}: {error}") from None


def _amount(row: dict[str, str], name: str, file: Path, number: int) -> Decimal:
    try:
        return Decimal(row[name] or "")
    except InvalidOperation:
        raise InputError(f"{file}: row {number}: {name}={row[name]!r} is not a number") from None


__all__ = ["ListedCalendar", "read_listed", "read_rows"]


def _rows_of_frame(frame: Any) -> list[Mapping[str, Any]]:
    from eptaro.inputs.sources import FrameSource

    return list(FrameSource(frame).rows())


listed.rows_of_frame = _rows_of_frame  # core itself knows no frames


def read_rows(path: Path) -> list[dict[str, Any]]:
    """Return the rows of a small CSV file, None where a field is empty."""
    try:
        check_small(path)
        with path.open(encoding="utf-8-sig", newline="") as file:
            return [{k: v or None for k, v in row.items()} for row in csv.DictReader(file)]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        raise InputError(f"{path}: cannot be read: {reason}") from None


def read_listed(name: str, path: Path, **options: Any) -> ListedCalendar:
    """Return the calendar whose periods a CSV file lists."""
    rows = read_rows(path)
    try:
        return ListedCalendar(name, rows, **options)
    except CalendarError as error:
        raise CalendarError(f"{path}: {error}") from None
